"""Cover maps: pictures that steer a layer, and pictures that cannot."""

from __future__ import annotations

import io
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tifffile
from click.testing import CliRunner
from PIL import Image

from dovrek.cli import main
from dovrek.core.clouds.cover_map import cover_of, grey_of
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.formats import bounds, cover_maps
from dovrek.formats.cover_maps import MapError, embedded
from dovrek.sky.advisories import advisories
from dovrek.sky.errors import SkyError
from tests import rasters
from tests.conftest import free_sun, sky_of


def png(values: Any, mode: str | None = None) -> bytes:
    buffer = io.BytesIO()
    Image.fromarray(values, mode).save(buffer, "PNG")
    return buffer.getvalue()


def half() -> Any:
    """Light in the east, dark in the west."""
    values = np.zeros((64, 64), dtype=np.uint8)
    values[:, 32:] = 255
    return values


def plan(studio: Studio, genus: str, **chart: Any) -> Any:
    """Cloud over 30 km, [east, north]."""
    sky = free_sun(45, layers=[{"genus": genus, "id": "a", "cover_oktas": 6, "clearings": {
        "share": 0.0}, "map": {"asset": embedded(png(half())), "extent_km": 30.0, **chart}}])
    body = studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())
    z = 0.3 * sky.layers[0].thickness_m
    return rasters.plan_of(body.field, 15e3, 60, z) > 0


@pytest.mark.parametrize("genus", ["cumulus", "stratus", "stratocumulus", "cirrus"])
def test_a_layer_stands_where_its_map_is_light(studio: Studio, genus: str) -> None:
    found = plan(studio, genus)
    assert found[36:].mean() > 0.4 > 0.06 > found[:24].mean()


def test_turn_invert_and_strength(studio: Studio) -> None:
    """North up: a quarter turn clockwise takes the east side to the south."""
    assert plan(studio, "stratocumulus", invert=True)[:24].mean() > 0.4
    turned = plan(studio, "stratocumulus", rotation_deg=90.0)
    assert turned[:, :24].mean() > 0.4 > 0.06 > turned[:, 36:].mean()
    weak = [plan(studio, "stratocumulus", strength=s)[:24].mean() for s in (0.0, 0.3, 1.0)]
    assert weak[0] > weak[1] > weak[2]


@pytest.mark.parametrize("name", ["grey", "sixteen", "colour", "palette", "alpha", "tiff", "float",
                                  "small"])
def test_pictures_of_any_kind(name: str) -> None:
    values = half()
    rgb = np.stack([values] * 3, axis=-1)
    tiff = io.BytesIO()
    if name == "tiff":
        tifffile.imwrite(tiff, values.astype(np.uint16) * 200)
    if name == "float":
        tifffile.imwrite(tiff, values.astype(np.float32) * 3.7 - 12.0)
    palette = io.BytesIO()
    Image.fromarray(rgb).convert("P").save(palette, "PNG")
    data = {
        "grey": png(values), "sixteen": png(values.astype(np.uint16) * 257), "colour": png(rgb),
        "palette": palette.getvalue(), "alpha": png(np.dstack([rgb, values])),
        "tiff": tiff.getvalue(), "float": tiff.getvalue(), "small": png(values[:, 30:34]),
    }[name]
    cover = cover_of(embedded(data), None, None, False)
    assert cover is not None and cover[0, 0] == 0 and cover[-1, -1] == 255


def test_black_and_white_by_the_map_or_as_set() -> None:
    ramp = np.tile(np.linspace(80, 160, 128).astype(np.uint8), (8, 1))
    asset = embedded(png(ramp))
    own = cover_of(asset, None, None, False)
    hard = cover_of(asset, 0.5, 0.55, False)
    assert own is not None and hard is not None
    assert (np.diff(own[4].astype(int)) >= 0).all()
    assert float(own[4, 64]) == pytest.approx(127, abs=8)
    assert (hard[4, :60] == 0).all() and (hard[4, 72:] == 255).all()


@pytest.mark.parametrize(("data", "words"), [
    (b"", "empty"), (b"no picture", "cannot be read"),
    (png(np.full((9, 9), 77, np.uint8)), "one grey all over"),
    (png(half())[:50], "cannot be read"), (b"\xff" * 5000, "cannot be read"),
])
def test_what_is_no_map_is_refused_in_words(data: bytes, words: str) -> None:
    with pytest.raises(MapError, match=words):
        embedded(data)


def test_huge_maps_are_refused(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bounds, "DECODED_MOST", 1000)
    with pytest.raises(MapError, match="decoded; make it smaller"):
        embedded(png(half()))
    monkeypatch.setattr(cover_maps, "BYTES_MOST", 50)
    with pytest.raises(MapError, match="larger than"):
        embedded(png(half()))


def test_maps_that_are_not_there_are_pointed_out(studio: Studio) -> None:
    sky = sky_of(layers=[{"genus": "stratus", "id": "a", "map": {"asset": "gone.png"}}])
    assert [a.code for a in advisories(sky, 40.0)] == ["map missing"]
    assert grey_of("gone.png") is None and grey_of("data:image/png;base64,????") is None
    assert studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel()).record["masked"] == 0
    with pytest.raises(SkyError, match="at most 256 pixels"):
        sky_of(layers=[{"genus": "stratus", "map": {"asset": "data:" + "A" * 200_000}}])


def test_sky_files_take_maps_from_beside_them(tmp_path: Path) -> None:
    (tmp_path / "shore.png").write_bytes(png(half()))
    sky = tmp_path / "sky.json"
    sky.write_text(json.dumps({"dovrek": 1, "layers": [
        {"genus": "stratus", "map": {"asset": "shore.png"}}]}))
    done = CliRunner().invoke(main, ["check", str(sky), "--json"])
    assert done.exit_code == 0 and "map missing" not in done.output
    (tmp_path / "shore.png").unlink()
    gone = CliRunner().invoke(main, ["check", str(sky)])
    assert gone.exit_code == 2 and "shore.png" in gone.output and "check the path" in gone.output
