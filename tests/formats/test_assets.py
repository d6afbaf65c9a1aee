"""A sky with its pictures as one archive: what goes out comes in the same; what leads outside it,
is too large or is none is refused in words."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from click.testing import CliRunner
from flask.testing import FlaskClient
from PIL import Image

from dovrek.cli import main
from dovrek.formats.assets import AssetError, packed, sky_of_file, unpacked
from dovrek.formats.behind import PhotographError, behind_of, colours_of
from dovrek.formats.cover_maps import embedded as cover_embedded
from dovrek.formats.height_maps import embedded as heights_embedded
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.reading import sky_to_text
from dovrek.store import skies
from tests.conftest import sky_of
from tests.core.picture.test_behind import dome, exr, photograph, png
from tests.web.test_judging import client, live, token  # noqa: F401  fixtures of the plain pages


def hill() -> np.ndarray:
    rows, columns = np.mgrid[0:60, 0:60] / 59.0
    return np.exp(-((rows - 0.5) ** 2 + (columns - 0.4) ** 2) / 0.05)


def whole(tmp_path: Path, around: bool = False) -> Sky:
    heights = png(np.round(65535 * hill()).astype(np.uint16))
    cover = png(np.round(255 * hill()).astype(np.uint8))
    behind = behind_of(exr(dome((30, 40)), tmp_path) if around else png(photograph()))
    return sky_of(name="Whole", relief={"form": "map", "asset": heights_embedded(heights).asset,
                                       "picture": colours_of(png(photograph()))},
                  behind={"asset": behind.asset, "kind": "dome" if around else "photograph"},
                  layers=[{"id": "a", "map": {"asset": cover_embedded(cover)}}])


@pytest.mark.parametrize("around", [False, True])
def test_what_goes_out_comes_in_the_same(tmp_path: Path, around: bool) -> None:
    sky = whole(tmp_path, around)
    data = packed(sky)
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        names = archive.namelist()
        told = json.loads(archive.read("sky.json"))
        shown = Image.open(io.BytesIO(archive.read("pictures/relief.png")))
    assert set(names) == {"sky.json", "pictures/relief.png", "pictures/a-cover.png",
                          "pictures/relief-colours.jpg",
                          f"pictures/behind.{'png' if around else 'jpg'}"}
    assert told["relief"]["asset"] == "pictures/relief.png" and shown.size == (60, 60)
    assert unpacked(data) == sky == sky_of_file(data)
    assert sky_of_file(sky_to_text(sky).encode()) == sky
    assert len(packed(sky_of())) < 5000  # one without pictures is one file


def test_colours_are_no_light(tmp_path: Path) -> None:
    with pytest.raises(PhotographError, match="light, not colours"):
        colours_of(exr(dome((30, 40)), tmp_path))


def zipped(files: dict[str, bytes]) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return buffer.getvalue()


SKY: dict[str, Any] = {"dovrek": 1, "relief": {"form": "map", "asset": "pictures/a.png"}}
TEXT = json.dumps(SKY).encode()


@pytest.mark.parametrize(("data", "part"), [
    (b"PK\x03\x04 and no more", "cannot be read"),
    (zipped({"other.json": b"{}"}), "no sky.json"),
    (zipped({"sky.json": TEXT, "../a.png": b"x"}), "outside"),
    (zipped({"sky.json": TEXT, "/etc/a.png": b"x"}), "outside"),
    (zipped({"sky.json": TEXT, "a\\..\\b.png": b"x"}), "outside"),
    (zipped({"sky.json": TEXT}), "relief.asset: pictures/a.png"),
    (zipped({"sky.json": TEXT, "pictures/a.png": b"nothing"}), "cannot be read as a picture"),
    (zipped({"sky.json": b" " * 3_000_000}), "larger than"),
    (zipped({"sky.json": TEXT, **{f"pictures/{k}": b"" for k in range(60)}}), "61 files"),
    (zipped({"sky.json": TEXT, "pictures/a.png": bytes(210 * 2**20)}), "unpacks to more"),
])
def test_refused_archives_say_why(data: bytes, part: str) -> None:
    with pytest.raises(AssetError, match=part):
        unpacked(data)


def test_a_torn_archive_is_refused_wherever_it_is_torn(tmp_path: Path) -> None:
    data = packed(whole(tmp_path))
    for cut in range(5, len(data), max(len(data) // 40, 1)):
        with pytest.raises((AssetError, SkyError)):
            unpacked(data[:cut])
    for at in range(0, len(data), max(len(data) // 60, 1)):
        bent = bytearray(data)
        bent[at] ^= 0x55
        try:
            unpacked(bytes(bent))
        except (AssetError, SkyError):
            continue


def test_it_goes_through_the_pages_and_the_command(client: FlaskClient,  # noqa: F811
                                                   tmp_path: Path) -> None:
    sky = whole(tmp_path)
    skies.add_sky(sky, slug="whole")
    answer = client.get("/skies/whole/export.zip")
    assert answer.status_code == 200 and "whole.zip" in answer.headers["Content-Disposition"]
    data = answer.get_data()
    sent = client.post("/skies/import", data={"file": (io.BytesIO(data), "whole.zip")},
                       headers={"X-Token": token(client)}, content_type="multipart/form-data")
    assert sent.status_code == 302
    slug = sent.headers["Location"].split("/skies/")[1].strip("/")
    assert slug != "whole" and skies.load(slug)[0] == sky
    refused = client.post("/skies/import", data={"file": (io.BytesIO(data[:900]), "torn.zip")},
                          headers={"X-Token": token(client)}, content_type="multipart/form-data")
    assert refused.status_code == 422
    (tmp_path / "whole.zip").write_bytes(data)
    found = CliRunner().invoke(main, ["check", str(tmp_path / "whole.zip")])
    assert found.exit_code == 0, found.output
    (tmp_path / "torn.zip").write_bytes(data[:900])
    torn = CliRunner().invoke(main, ["check", str(tmp_path / "torn.zip")])
    assert torn.exit_code == 2 and "torn.zip" in torn.stderr
