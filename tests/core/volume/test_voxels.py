"""Voxels of a layer: what they hold, and what is left out."""

from __future__ import annotations

import numpy as np
import pytest

from dovrek.core.clouds.density import density
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.core.volume.voxels import BLOCK, box_of, filled
from tests.conftest import free_sun


def body_of(studio: Studio, **layer: object) -> LayerBody:
    sky = free_sun(40, layers=[{"id": "a", **layer}])
    return studio.preparer.bodies(sky, SKETCH, Cancel())[0]


@pytest.mark.parametrize("genus", ["cumulus", "altocumulus", "cirrus", "stratus"])
def test_blocks_hold_the_density_of_their_cubes_and_none_is_left_out(studio: Studio,
                                                                     genus: str) -> None:
    """Against the density at every cube's middle, asked for one by one."""
    body = body_of(studio, genus=genus)
    box = box_of(body, 60.0, 3000.0, (400.0, -900.0))
    blocks = filled(body, box, studio.workers, Cancel())
    shape = [n * BLOCK for n in box.blocks]
    found = np.zeros(shape, np.float32)
    for place, values in zip(blocks.places, blocks.values, strict=True):
        x, y, z = place
        found[x : x + BLOCK, y : y + BLOCK, z : z + BLOCK] = values.reshape(BLOCK, BLOCK, BLOCK)
    rng = np.random.default_rng(3)
    wrong, inside = 0, 0
    for i, j, k in rng.integers(0, shape, (4000, 3)):
        at = [c + 60.0 * (n + 0.5) for c, n in zip((box.x, box.y, box.z), (i, j, k), strict=True)]
        sigma = density(body.field, 0, at[0], at[1], at[2] - body.base, 60.0, 2.0)[1]
        inside += sigma > 0.0
        wrong += abs(float(found[i, j, k]) - sigma) > 1e-6 + 1e-5 * sigma
    assert inside > 100
    assert wrong <= 0.002 * 4000


def test_layers_of_one_voxel_size_share_a_lattice(studio: Studio) -> None:
    boxes = [box_of(body_of(studio, genus="cumulus", base_m=base), 70.0, 5000.0)
             for base in (800.0, 1234.0)]
    for box in boxes:
        assert all(abs(c / 70.0 - round(c / 70.0)) < 1e-9 for c in (box.x, box.y, box.z))
    assert boxes[0].voxels == BLOCK**3 * np.prod(boxes[0].blocks)


def test_a_volume_is_cancelled(studio: Studio) -> None:
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        body = body_of(studio, genus="cumulus")
        filled(body, box_of(body, 50.0, 5000.0), studio.workers, cancel)
