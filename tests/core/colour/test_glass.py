"""Glow and vignette: light strays and none is lost, no block is seen, corners darken."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.colour.glass import CLEAR, Glass, through_whole
from dovrek.core.picture.render import Metered
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from dovrek.sky.document import Film

EV, WHITE = 12.0, 6504.0


def dusk(size: tuple[int, int]) -> NDArray[np.float32]:
    """(h, w, 5) even light with a spot 20 stops above it, off the middle."""
    light = np.ones((*size, 5), dtype=np.float32)
    light[int(0.4 * size[0]): int(0.4 * size[0]) + 3, int(0.3 * size[1]):int(0.3 * size[1]) + 3,
          :3] = 2.0**20
    return light


@pytest.mark.parametrize("size", [(54, 96), (270, 480), (1080, 1920), (333, 777)])
def test_light_strays_and_none_is_lost(size: tuple[int, int]) -> None:
    light = dusk(size)
    found = through_whole(light, Glass(0.0, 0.1))
    for c in range(3):
        assert found[..., c].sum(dtype=float) == pytest.approx(light[..., c].sum(dtype=float),
                                                               rel=0.01)
    assert (found[..., 3:] == light[..., 3:]).all() and (found[..., :3] > 0.0).all()


def test_a_glow_of_twenty_stops_shows_no_box() -> None:
    """It falls with the way from the spot, alike to all sides, without steps or corners."""
    size = (1080, 1920)
    found = through_whole(dusk(size), Glass(0.0, 0.05))[..., 1].astype(float)
    y0, x0 = int(0.4 * size[0]) + 1, int(0.3 * size[1]) + 1
    for radius in (40, 90, 200, 350):
        turns = np.linspace(0.0, 2.0 * np.pi, 73)[:-1]
        ring = found[np.round(y0 + radius * np.sin(turns)).astype(int),
                     np.round(x0 + radius * np.cos(turns)).astype(int)]
        assert ring.max() / ring.min() < 1.5
    ray = np.log2(found[y0, x0 + 12: x0 + 500])
    assert (np.diff(ray) < 1e-3).all()
    assert np.abs(np.diff(ray, 2)).max() < 0.02  # no corner where blocks meet


def test_corners_darken_by_what_is_set() -> None:
    light = np.full((90, 160, 5), 100.0, dtype=np.float32)
    found = through_whole(light, Glass(1.5, 0.0))[..., 1]
    assert found[45, 80] == pytest.approx(100.0, rel=0.001)
    assert found[0, 0] == pytest.approx(100.0 * 2.0**-1.5, rel=0.03)
    assert np.allclose(found, found[::-1, ::-1], rtol=1e-5)


def test_a_file_by_bands_is_the_whole_developed(tmp_path: Path) -> None:
    rng = np.random.default_rng(2)
    light = (rng.uniform(0.0, 1.0, (300, 420, 5)) ** 6 * 3.0 * white_luminance(EV)).astype(
        np.float32)
    glass = Glass(1.0, 0.15)
    write_picture(tmp_path / "a.png", light, Developing(EV, WHITE, glass=glass, bits="8"))
    with Image.open(tmp_path / "a.png") as image:
        found = np.asarray(image, dtype=int)
    whole = np.asarray(develop(light, EV, WHITE, glass=glass), dtype=int)
    assert np.abs(found - whole).max() <= 1
    plain = np.asarray(develop(light, EV, WHITE), dtype=int)
    assert np.abs(found - plain).max() > 10


def test_glass_is_before_the_picture_alone_and_clear_by_itself() -> None:
    metered = Metered(EV, WHITE).set_by(Film(glow=0.1, vignette=1.0))
    assert metered.seen_in("picture").glass == Glass(1.0, 0.1)
    assert metered.seen_in("dome").glass == CLEAR
    assert Metered(EV, WHITE).set_by(Film()).glass == CLEAR
    light = np.ones((8, 8, 5), dtype=np.float32)
    assert through_whole(light, CLEAR) is light
