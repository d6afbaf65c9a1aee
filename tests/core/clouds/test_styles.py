"""Styles of a wash: tones by height, thin edges, blotches, how softly they meet."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.transport.sample import DISTANCE
from tests.conftest import free_sun

GENERA = ["cumulus", "stratocumulus", "cirrus"]
# Unlike in X and Z: the sun's side red, the body blue, the base green.
WASH = {"strength": 1.0, "lit": "#ff5030", "body": "#3050ff", "base": "#30c040", "soft": 0.2}


def seen(studio: Studio, genus: str, **wash: Any) -> tuple[Any, Any]:
    """Light of the pixels that are mostly cloud, (n, 3), and distances of all."""
    sky = free_sun(40, layers=[{"genus": genus, "id": "a", "cover_oktas": 5.0,
                                "wash": {**WASH, **wash}}],
                   camera={"heading_deg": 30, "pitch_deg": 25, "lens_mm": 24})
    light = studio.render(sky, Wish(96, 54, "draft", sun_disc=False, ground=False, sky=False)).light
    cloud = light[..., 3] > 0.3
    return light[cloud][:, :3], light[..., DISTANCE]


def redness(light: Any) -> float:
    total = light.sum(axis=0)
    return float(total[0] / total.sum())


def greenness(light: Any) -> float:
    total = light.sum(axis=0)
    return float(total[1] / total.sum())


@pytest.mark.parametrize("genus", GENERA)
def test_tones_begin_where_they_are_set(studio: Studio, genus: str) -> None:
    """The higher the lit side begins the less red there is, the higher the body begins the more of
    the base's green; shapes stay."""
    red = [redness(seen(studio, genus, lit_from=v)[0]) for v in (0.0, 0.25, 0.5, 0.75, 1.0)]
    assert (np.diff(red) < 1e-4).all() and red[0] > red[-1] + 0.02, red
    green = [greenness(seen(studio, genus, body_from=v)[0]) for v in (0.0, 0.25, 0.5, 0.75, 1.0)]
    assert (np.diff(green) > -1e-4).all() and green[-1] > green[0] + 0.01, green
    plain, styled = seen(studio, genus)[1], seen(studio, genus, lit_from=0.6, body_from=0.3)[1]
    assert np.array_equal(plain, styled)


@pytest.mark.parametrize("genus", GENERA)
def test_thin_edges_are_darker_or_brighter(studio: Studio, genus: str) -> None:
    found = [float(seen(studio, genus, edge=v, edge_tint="#ffffff")[0][:, 1].mean())
             for v in (-1.0, -0.5, 0.0, 0.5, 1.0)]
    assert (np.diff(found) > 0).all() and found[-1] > 1.05 * found[0], found


@pytest.mark.parametrize("genus", GENERA)
def test_blotches_take_their_share_of_the_shade(studio: Studio, genus: str) -> None:
    """More of them, more of their tint; another seed puts them elsewhere."""
    tint = {"blotch_tint": "#ffd000", "blotch_size_m": 8000.0 if genus == "cirrus" else 600.0}
    found = [float(seen(studio, genus, blotches=v, **tint)[0][:, 2].sum())
             for v in (0.0, 0.25, 0.5, 0.75, 1.0)]
    assert (np.diff(found) < 0).all(), found  # yellow takes blue away
    one = seen(studio, genus, blotches=0.4, **tint)[0]
    other = seen(studio, genus, blotches=0.4, blotch_seed=9, **tint)[0]
    assert not np.allclose(one, other)


def test_tones_meet_softly_or_as_if_cut(studio: Studio) -> None:
    """Spread of the tones that lie between lit side and body: wider the softer they meet."""
    spread = []
    for soft in (0.0, 0.5, 1.0):
        light = seen(studio, "cumulus", lit_from=0.35, soft=soft)[0]
        ratio = np.log(light[:, 0] / light[:, 2])
        low, high = np.quantile(ratio, [0.02, 0.98])
        between = (ratio > low + 0.25 * (high - low)) & (ratio < high - 0.25 * (high - low))
        spread.append(float(between.mean()))
    assert spread[0] < spread[1] < spread[2] + 0.05, spread


def test_size_of_blotches(studio: Studio) -> None:
    """Small blotches change more from pixel to pixel than large ones."""
    rough = []
    for size in (150.0, 3000.0):
        sky = free_sun(40, layers=[{"genus": "stratus", "id": "a", "cover_oktas": 8, "wash": {
            **WASH, "body": "#ffffff", "base": "#ffffff", "lit": "#ffffff", "blotches": 0.5,
            "blotch_tint": "#ff2020", "blotch_size_m": size}}],
            camera={"pitch_deg": 60, "lens_mm": 24})
        light = studio.render(sky, Wish(96, 54, "draft", sun_disc=False)).light
        ratio = np.log(light[..., 0] / light[..., 2])
        rough.append(float(np.abs(np.diff(ratio, axis=1)).mean() / max(ratio.std(), 1e-9)))
    assert rough[0] > 1.5 * rough[1], rough


def test_without_strength_nothing_is_washed(studio: Studio) -> None:
    plain = seen(studio, "cumulus", strength=0.0)[0]
    styled = seen(studio, "cumulus", strength=0.0, edge=1.0, blotches=0.8, lit_from=0.9)[0]
    assert np.array_equal(plain, styled)


def test_edges_are_the_path_tracers_too(studio: Studio) -> None:
    """What bright edges add to a sky of heaps, the march against the path tracer: the tones are
    those of the place that a ray sees, not of the first droplet that a path meets."""
    gains = []
    for slow in (False, True):
        light = []
        for edge in (1e-6, 0.8):  # both with edges: the tracer's paths are the same
            sky = free_sun(40, layers=[{"genus": "cumulus", "cover_oktas": 6.0,
                                        "wash": {**WASH, "edge": edge, "edge_tint": "#ffffff"}}],
                           camera={"heading_deg": 30, "pitch_deg": 30, "lens_mm": 24})
            made = (studio.trace(sky, Wish(20, 12, "final", sun_disc=False), 24) if slow else
                    studio.render(sky, Wish(480, 288, "proof", sun_disc=False)))
            light.append(float(made.light[..., 1].mean()))
        gains.append(light[1] / light[0] - 1.0)
    assert gains[0] > 0.02 and gains[1] == pytest.approx(gains[0], abs=0.08), gains
