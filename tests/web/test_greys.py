"""The greys of a cover map beside its control: black and white as found, and what is wrong."""

from __future__ import annotations

import io

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.formats.cover_maps import embedded
from dovrek.sky.changes import with_values
from dovrek.sky.layer import CoverMap
from dovrek.store import skies
from dovrek.web.composer.greys import WIDTH, greys_of
from dovrek.web.composer.schedule import sheet_of
from tests.conftest import sky_of
from tests.web.test_judging import client, live  # noqa: F401  fixtures of the plain pages


def asset_of(values: np.ndarray) -> str:
    """Kept as it is: a map of a document of another hand need not reach from black to white."""
    buffer = io.BytesIO()
    Image.fromarray(values.astype(np.uint8)).save(buffer, "PNG")
    import base64
    return "data:image/png;base64," + base64.b64encode(buffer.getvalue()).decode()


RAMP = np.tile(np.linspace(0, 255, 64), (64, 1))


def test_black_and_white_are_where_the_map_has_them() -> None:
    """The 2nd and 98th percentile of an even ramp are .02 and .98 of it."""
    found = greys_of(CoverMap(asset=asset_of(RAMP)))
    assert found is not None and not found.fault
    assert found.black == pytest.approx(0.02 * WIDTH, abs=1.0)
    assert found.white == pytest.approx(0.98 * WIDTH, abs=1.0)
    assert "as found" in found.said and "2 % of it" in found.said
    set_by_hand = greys_of(CoverMap(asset=asset_of(RAMP), black=0.25, white=0.75))
    assert set_by_hand is not None and "as found" not in set_by_hand.said
    assert (set_by_hand.black, set_by_hand.white) == (0.25 * WIDTH, 0.75 * WIDTH)
    assert "25 % of it" in set_by_hand.said


@pytest.mark.parametrize(("cover", "part"), [
    (CoverMap(asset=asset_of(np.full((8, 8), 90))), "one grey"),
    (CoverMap(asset=asset_of(100 + 0.1 * RAMP)), "little contrast"),
    (CoverMap(asset=asset_of(RAMP), black=0.5, white=0.52), "hard edges"),
    (CoverMap(asset="cover.png"), "not part of the sky")])
def test_what_is_wrong_is_said_with_its_mend(cover: CoverMap, part: str) -> None:
    found = greys_of(cover)
    assert found is not None and part in found.fault and ":" in found.fault


def test_it_stands_in_the_schedule(client: FlaskClient) -> None:  # noqa: F811
    buffer = io.BytesIO()
    Image.fromarray(RAMP.astype(np.uint8)).save(buffer, "PNG")
    row = skies.add_sky(with_values(
        sky_of(layers=[{"id": "a"}]), {"layers[a].map.asset": embedded(buffer.getvalue())}))
    sky = skies.load(row.slug)[0]
    rows = [r for group in sheet_of(sky, "layer:a", {}).groups for r in group.rows]
    assert [r.path for r in rows if r.greys] == ["layers[a].map.asset"]
    page = client.get(f"/skies/{row.slug}/panels?selected=layer:a").data.decode()
    assert "Greys of the map: black" in page
