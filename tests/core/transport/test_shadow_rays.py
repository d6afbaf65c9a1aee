"""Shadow rays alone: how much of the haze's light along a ray the sun still gives."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.scene import Scene
from dovrek.core.transport.scratch import NODES, SHADOWS
from dovrek.core.transport.shadow_rays import (
    FARTHEST_M,
    find_shadows,
    lit_share,
    taken,
)
from tests.conftest import free_sun

HEAPS = {"genus": "cumulus", "id": "a", "cover_oktas": 4.0}
SHEET = {"genus": "stratus", "id": "a", "cover_oktas": 8.0, "thickness_m": 1500}


def scene_of(studio: Studio, height: float, *layers: dict[str, Any]) -> Scene:
    sky = free_sun(height, layers=list(layers), air={"shadow_rays": True, "haze": 0.3})
    prepared, _ = studio.prepare(sky, Wish(64, 36, "draft"), Cancel())
    return prepared.scene


def shares_of(scene: Scene, elevation: float, azimuth: float = 180.0,
              limit: float = 1e9) -> np.void:
    e, a = math.radians(elevation), math.radians(azimuth)
    shadows = np.zeros(1, SHADOWS)[0]
    find_shadows(scene, 0.0, 0.0, scene.height, math.cos(e) * math.sin(a),
                 math.cos(e) * math.cos(a), math.sin(e), e, a, limit, 0.5, shadows, np.empty(9))
    return shadows


@pytest.mark.parametrize("elevation", [2, 10, 40])
def test_under_a_full_sheet_little_haze_is_lit(studio: Studio, elevation: float) -> None:
    """Below the sheet its shadow lies everywhere; little of a beam gets through."""
    shares = shares_of(scene_of(studio, 40, SHEET), elevation)["lit"]
    assert np.all((shares >= 0.0) & (shares <= 1.0))
    assert shares[NODES // 2] < 0.1


def test_between_heaps_part_of_the_haze_is_lit(studio: Studio) -> None:
    """On the mean over bearings about what is not covered, for a sun that stands high."""
    scene = scene_of(studio, 70, HEAPS)
    last = [shares_of(scene, 8, azimuth)["lit"][-1] for azimuth in range(0, 360, 20)]
    assert 0.3 < np.mean(last) < 0.8
    assert np.ptp(last) > 0.05  # it is in shafts


def test_a_ray_ends_at_its_limit_or_where_it_leaves_the_clouds(studio: Studio) -> None:
    scene = scene_of(studio, 40, HEAPS)
    assert shares_of(scene, 10, limit=3000.0)["far"] == pytest.approx(3000.0)
    level = shares_of(scene, 0.2)
    assert level["far"] == FARTHEST_M and level["cut"] == 1  # cut short
    steep = shares_of(scene, 60)
    assert steep["far"] < 6000.0 and steep["cut"] == 0


def test_shares_between_nodes_and_what_shadows_take() -> None:
    """Node k lies at ((k + 1)/NODES)² of the way and holds its share; in between they are
    interpolated, beyond the last they stay, and shade takes the rest of the haze."""
    shares = np.zeros(1, SHADOWS)[0]
    shares["nodes"] = NODES
    shares["lit"] = np.linspace(1.0, 0.4, NODES)
    shares["far"], shares["haze"] = 10_000.0, (2.0, 3.0, 4.0)
    for k in (0, 5, NODES - 1):
        at = 10_000.0 * ((k + 1) / NODES) ** 2
        assert lit_share(shares, at) == pytest.approx(shares["lit"][k], abs=1e-9)
    far = [lit_share(shares, d) for d in np.linspace(0.0, 30_000.0, 60)]
    assert np.all(np.diff(far) <= 1e-12) and far[-1] == pytest.approx(0.4)
    assert taken(shares, 1, 5.0) == pytest.approx(0.6 * 3.0)  # of the haze up to there
    shares["cut"] = 1
    assert taken(shares, 1, 5.0) == pytest.approx(0.6 * 5.0)  # cut short: of all
    shares["far"] = 0.0
    assert lit_share(shares, 500.0) == 1.0  # no way under clouds
