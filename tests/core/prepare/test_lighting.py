"""Light in clouds: what another density leaves as it is."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.lighting import extinction, extinction_node
from dovrek.core.run.stage import nodes_in
from dovrek.core.run.workers import Cancel
from tests.conftest import sky_of

HEAPS: list[dict[str, Any]] = [
    {"genus": "cumulus"},
    {"genus": "cumulus", "species": "congestus"},
    {"genus": "cumulonimbus", "species": "capillatus", "fall": {"amount": 0.0}},
    {"genus": "cumulus", "life": {"stage": 0.9, "spread": 0.5}},
    {"genus": "cumulus", "heroes": [{"id": "h", "east_m": 900.0, "north_m": 4000.0}]},
]


def looked(layer: dict[str, Any], density: float, studio: Studio) -> tuple[Any, Any]:
    """A layer of a density, and its extinction as scenes have it."""
    sky = sky_of(layers=[layer | {"body": {"density_per_km": density}}])
    body = studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())
    return body, extinction_node(body, SKETCH)


@pytest.mark.parametrize("layer", HEAPS)
def test_another_density_of_heaps_asks_for_no_other_look(layer: dict[str, Any],
                                                         studio: Studio) -> None:
    """Their extinction grows evenly: what one density was looked up for serves the other, and is
    what its own looks would have found."""
    thin, dense = (looked(layer, density, studio) for density in (20.0, 90.0))
    assert [n.key for n in nodes_in(list(thin[1].inputs.values()))] == [
        n.key for n in nodes_in(list(dense[1].inputs.values()))]
    own, node = dense
    plain = extinction(record=own.cloud, solid=own.solid, stood=own.stood, grid=own.grid,
                       samples=node.inputs["sigma"].inputs["samples"])
    found, meant = studio.preparer.all([node, plain], Cancel())
    assert meant.max() > 0.02
    np.testing.assert_allclose(found, meant, rtol=1e-5, atol=1e-9)


@pytest.mark.parametrize("layer", [{"genus": "stratus"}, {"genus": "cirrus"}, {
    "genus": "cumulonimbus", "fall": {"amount": 0.6}}])
def test_rain_and_sheets_are_looked_up_by_their_density(layer: dict[str, Any],
                                                        studio: Studio) -> None:
    """Rain does not grow with its cloud, and a sheet's level heeds how deep its edges are."""
    (_, one), (_, other) = (looked(layer, density, studio) for density in (2.0, 9.0))
    assert one.of is extinction and one.key != other.key
