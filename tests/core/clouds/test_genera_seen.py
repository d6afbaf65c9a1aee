"""How genera look: droplets and crystals, outlines, distance; any document at all."""

from __future__ import annotations

import math
import os
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from dovrek.core.clouds.phase import PHASES, droplets_at, halo_at, phase_function
from dovrek.core.colour.film import develop
from dovrek.core.colour.tint import tint_factors
from dovrek.core.geometry.lens import dome_lens
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.sky.genera import FEATURES, GENUS_DEFAULTS, SPECIES, VARIETIES
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import parameters_of
from tests.conftest import free_sun, long, sky_of
from tests.core.clouds.test_genera import body_of, one, plan_at

# ---- light ---------------------------------------------------------------------------------


def test_larger_droplets_throw_light_farther_ahead() -> None:
    """Mean cosine rises with the radius (van de Hulst 1957); every mixture is a phase function."""
    chosen = [PHASES[droplets_at(r)] for r in (3, 6, 10, 16, 30)]
    assert all(b.asymmetry > a.asymmetry for a, b in zip(chosen, chosen[1:], strict=False))
    cosine, weight = np.polynomial.legendre.leggauss(900)
    for phase in PHASES:
        total = 2 * np.pi * np.sum(weight * phase_function(cosine, phase))
        assert total == pytest.approx(1.0, abs=2e-3)
        assert 0.0 < phase.k_transport < phase.k_scaled < 1.0


def test_the_ring_is_sharp_inside_at_22_degrees(studio: Studio) -> None:
    """Minimum deviation of a 60° prism of ice, index 1.31: 21.8° (Greenler 1980)."""
    deviation = 2 * np.degrees(np.arcsin(1.31 * np.sin(np.radians(30)))) - 60
    angles = np.radians(np.arange(18, 34, 0.1))
    ring = np.array([halo_at(a, np.radians(deviation)) for a in angles])
    assert np.degrees(angles[ring.argmax()]) == pytest.approx(deviation, abs=1.0)
    assert ring[0] < 0.01 * ring.max()
    sky = free_sun(25, layers=[{"genus": "cirrostratus", "id": "a", "light": {"halo": 1.0}}],
                   camera={"heading_deg": 180, "pitch_deg": 25, "lens_mm": 20})
    light = studio.render(sky, Wish(160, 90, "draft", sun_disc=False)).light[..., 1]
    level = light[40:50].mean(axis=0)  # through the sun, to the right
    f = 20 / 36 * 160
    at = np.degrees(np.arctan((np.arange(80) + 0.5) / f))
    right = level[80:]
    assert right[np.searchsorted(at, 22.8)] > 1.1 * right[np.searchsorted(at, 19.0)]


def test_wash_colours_and_keeps_brightness(studio: Studio) -> None:
    assert tint_factors("#ff8800", 0.0) == pytest.approx([1, 1, 1])
    assert tint_factors("#ff8800", 1.0)[1] == pytest.approx(1.0)
    assert tint_factors("#000000", 1.0) == pytest.approx([1, 1, 1])

    def mean_of(wash: dict[str, Any]) -> Any:
        sky = free_sun(40, layers=[{"genus": "stratocumulus", "id": "a", "cover_oktas": 8,
                                    "wash": wash}], film={"exposure_ev": 14.0})
        made = studio.render(sky, Wish(64, 36, "draft"))
        return made.light[:20, :, :3].mean(axis=(0, 1)), develop(
            made.light, 14.0, 6500.0, 1.0)[:20].mean(axis=(0, 1))

    plain, _ = mean_of({})
    warm, shown = mean_of({"strength": 1.0, "lit": "#ff7020", "body": "#ff7020",
                           "base": "#ff7020"})
    assert warm[1] == pytest.approx(plain[1], rel=0.02)
    assert warm[0] / warm[2] > 1.5 * plain[0] / plain[2] and shown[0] > shown[2] + 20


def test_rain_is_lit_from_behind(studio: Studio) -> None:
    """A veil below the base: brighter toward a low sun than away from it, dark under the storm."""
    def light(heading: float, amount: float) -> Any:
        sky = sky_of(sun={"mode": "free", "elevation_deg": 8, "azimuth_deg": 0}, layers=[{
            "genus": "altocumulus", "id": "a", "cover_oktas": 7.5, "fall": {
                "amount": amount, "reach": 0.8}, "clearings": {"share": 0.0}}],
            camera={"heading_deg": heading, "pitch_deg": 12, "lens_mm": 28})
        light = studio.render(sky, Wish(96, 54, "draft", sun_disc=False)).light
        return light[33:42, :, 1]  # low over the horizon, where shafts are seen from the side

    gain = [float(np.median(light(h, 0.3) / light(h, 0.0))) for h in (25.0, 180.0)]
    assert gain[0] != pytest.approx(1.0, abs=0.005) and gain[0] > gain[1]


# ---- any document at all -------------------------------------------------------------------


def numbers() -> dict[str, Any]:
    return {p.path: p for p in parameters_of(Layer) if p.kind in ("number", "integer")}


@st.composite
def layers(draw: Any) -> dict[str, Any]:
    """A layer of any genus and words, some controls at an end or anywhere in their range."""
    genus = draw(st.sampled_from(sorted(GENUS_DEFAULTS)))
    made: dict[str, Any] = {"genus": genus, "id": "a",
                            "species": draw(st.sampled_from(["", *SPECIES[genus]]))}
    for key, known in (("varieties", VARIETIES), ("features", FEATURES)):
        made[key] = draw(st.lists(st.sampled_from(sorted(known[genus])), max_size=2)) if (
            known[genus]) else []
    chosen = draw(st.lists(st.sampled_from(sorted(numbers())), max_size=9, unique=True))
    for path in chosen:
        p = numbers()[path]
        share = draw(st.sampled_from([0.0, 1.0, 0.13, 0.37, 0.5, 0.71, 0.9]))
        value = (p.low * (p.high / p.low) ** share if p.scale == "log"
                 else p.low + share * (p.high - p.low))
        place = made
        *groups, last = path.split(".")
        for group in groups:
            place = place.setdefault(group, {})
        value = min(max(value, p.low), p.high)
        place[last] = int(value) if p.kind == "integer" else value
    return made


@settings(max_examples=int(os.environ.get("DOVREK_EXAMPLES", "30")), deadline=None,
          derandomize=True, database=None, suppress_health_check=list(HealthCheck))
@given(layer=layers(), sun=st.sampled_from([70.0, 25.0, 3.0, -4.0]))
def test_any_layer_gives_a_picture(studio: Studio, layer: dict[str, Any], sun: float) -> None:
    """Documents at 64 × 36: no crash, no NaN, and cloud to be seen above one okta. So many as
    the time of the suite allows; DOVREK_EXAMPLES=200 asks for more."""
    sky = free_sun(sun, layers=[layer])
    prepared = studio.preparer.scene(sky, SKETCH, Cancel())
    light = render_frame(prepared, dome_lens(), (64, 36), QUALITIES["sketch"], studio.workers,
                         Cancel(), sun_disc=False)
    assert np.isfinite(light).all() and light[..., 1].min() >= 0.0 and light[..., 1].max() > 0.0
    seen = sky.layers[0]
    if seen.cover_oktas > 1.0 and 0.3 <= seen.life.stage <= 0.7 and seen.life.spread < 0.9:
        bare = studio.preparer.scene(sky.model_copy(update={"layers": []}), SKETCH, Cancel())
        clear = render_frame(bare, dome_lens(), (64, 36), QUALITIES["sketch"], studio.workers,
                             Cancel(), sun_disc=False)
        apart = np.abs(light[:18, :, 1] / clear[:18, :, 1] - 1.0)
        assert apart.max() > 0.002


# ---- outlines and distance -----------------------------------------------------------------


def test_an_anvil_is_combed_by_the_wind(studio: Studio) -> None:
    """Ice aloft is drawn out into strands: extinction changes quicker across the wind than along
    it, in the anvil but not in the towers below (WMO atlas: incus, capillatus)."""
    bodies = [body_of(studio, "cumulonimbus", cover_oktas=3, seed=seed, body={
        "anvil": 0.85, "growth_spread": 0}, wind={"from_deg": 270}) for seed in (1, 2, 4)]

    def steeper_across(share: float) -> float:
        """Over three deals, whose towers stand with their forms along the wind."""
        sums = np.zeros(2)
        for body in bodies:
            p = plan_at(body, share, 12e3, 240)
            inside = (p[1:-1, 1:-1] > 0) & (p[2:, 1:-1] > 0) & (p[1:-1, 2:] > 0)
            along, across = p[2:, 1:-1] - p[1:-1, 1:-1], p[1:-1, 2:] - p[1:-1, 1:-1]
            sums += np.abs(across[inside]).sum(), np.abs(along[inside]).sum()
        return float(sums[0] / sums[1])

    assert steeper_across(0.86) > 1.5
    assert steeper_across(0.3) < 0.7 * steeper_across(0.86)


def test_outlines_are_as_broken_as_real_ones(studio: Studio) -> None:
    """Fractal dimension of cumulus outlines from above by area and perimeter: 1.2 to 1.5
    (Lovejoy 1982; Cahalan & Joseph 1989)."""
    areas, lengths = [], []
    for seed in range(4):
        body = body_of(studio, "cumulus", seed=seed, cells={"spread": 0.8, "huddle": 0.1})
        plan = plan_at(body, 0.12, 9e3, 360) > 0
        for cloud in clouds_of(plan):
            inside = np.zeros((plan.shape[0] + 2, plan.shape[1] + 2), dtype=bool)
            inside[tuple(np.array(cloud).T + 1)] = True
            length = (inside[1:] != inside[:-1]).sum() + (inside[:, 1:] != inside[:, :-1]).sum()
            if len(cloud) >= 25:
                areas.append(len(cloud))
                lengths.append(length)
    slope = np.polyfit(np.log(areas), np.log(lengths), 1)[0]
    assert len(areas) > 60 and 1.2 <= 2.0 * slope <= 1.5


def clouds_of(plan: Any) -> list[list[tuple[int, int]]]:
    """Connected clouds of a plan that do not touch its border."""
    left = plan.copy()
    found = []
    for start in zip(*np.nonzero(plan), strict=True):
        if not left[start]:
            continue
        stack, cloud, cut = [start], [], False
        left[start] = False
        while stack:
            i, j = stack.pop()
            cloud.append((int(i), int(j)))
            for a, b in ((i + 1, j), (i - 1, j), (i, j + 1), (i, j - 1)):
                if not (0 <= a < plan.shape[0] and 0 <= b < plan.shape[1]):
                    cut = True
                elif left[a, b]:
                    left[a, b] = False
                    stack.append((a, b))
        if not cut:
            found.append(cloud)
    return found


@pytest.mark.parametrize("genus", ["cumulus", "stratocumulus", "altostratus", "cirrus",
                                   "cirrocumulus"])
def test_far_clouds_hold_still(studio: Studio, genus: str) -> None:
    """No speckle far off: two single samples of the lowest 6°, where a layer is 20 km to its
    horizon away, differ by less than .09 stops after a blur over 4 × 4 pixels."""
    sky = one(genus)
    camera = sky.camera.model_copy(update={"pitch_deg": 3.2, "lens_mm": 120.0,
                                           "heading_deg": 40.0})
    far = sky.model_copy(update={"camera": camera})
    wish = Wish(160, 60, "proof", sun_disc=False)
    prepared, _ = studio.prepare(far, wish, Cancel())
    blocks = []
    for sample in (0, 9):
        light = render_frame(prepared, wish.lens(far), (160, 60), QUALITIES["proof"],
                             studio.workers, Cancel(), False, first_sample=sample)[..., 1]
        blocks.append(light.reshape(15, 4, 40, 4).mean(axis=(1, 3)))
    apart = np.log2(blocks[0] / blocks[1])
    assert float(np.sqrt(np.mean(apart**2))) < 0.09


def strips_at(studio: Studio, genus: str, heights_deg: list[float], **parts: Any) -> list[Any]:
    """Luminance of strips half a degree high and 50° wide at heights above the horizon, in
    columns of 0.1°; means over three headings are left to the caller: (3, columns) each."""
    found: list[list[Any]] = [[] for _ in heights_deg]
    for heading in (20.0, 140.0, 260.0):
        sky = one(genus, **parts)
        camera = sky.camera.model_copy(update={"pitch_deg": 0.0, "lens_mm": 38.6,
                                               "heading_deg": heading})
        wish = Wish(500, 240, "draft", sun_disc=False)
        light = studio.render(sky.model_copy(update={"camera": camera}), wish).light[..., 1]
        for k, height in enumerate(heights_deg):
            at = 120 - round(536.0 * math.tan(math.radians(height)))
            found[k].append(light[at - 2 : at + 3].mean(axis=0))
    return [np.array(rows) for rows in found]


def pattern(rows: Any) -> Any:
    """What clouds make of rows: their brightness over its even course (a cubic along them)."""
    x = np.linspace(-1.0, 1.0, rows.shape[1])
    even = np.array([np.polyval(np.polyfit(x, r, 3), x) for r in rows])
    return rows / even - 1.0


def patch_degrees(rows: Any) -> float:
    """Lag, in columns, at which brightness along the horizon has half forgotten itself."""
    rows = pattern(rows)
    own = np.mean([np.correlate(r, r, "full")[len(r) - 1 :] for r in rows], axis=0)
    below = int(np.argmax(own < 0.5 * own[0]))
    return float(np.interp(0.5, [own[below] / own[0], own[below - 1] / own[0]],
                           [below, below - 1]))


@pytest.mark.long
def test_far_heaps_shrink_to_rows(studio: Studio) -> None:
    """Cumulus look as wide as their distance makes them: a cloud at 30 km is about a third as
    wide as one at 10 km (perspective; their bases 1.2 km up)."""
    base = one("cumulus").layers[0].base_m
    far = [math.degrees(math.atan2(base, d * 1e3)) for d in (10.0, 30.0)]
    near_width, far_width = np.mean([[patch_degrees(s) for s in strips_at(
        studio, "cumulus", far, cover_oktas=1.5, seed=seed)] for seed in range(4)], axis=0)
    assert 2.0 < near_width / far_width < 5.0


@pytest.mark.parametrize("genus", [long("stratocumulus"), "altocumulus", long("stratus")])
def test_sheets_run_out_into_a_line(studio: Studio, genus: str) -> None:
    """Toward the horizon a sheet's own pattern closes up: less contrast along it at 0.7° than
    at 12°, and still no clear sky below it."""
    above, low = strips_at(studio, genus, [12.0, 0.7], cover_oktas=6.0)

    def contrast(rows: Any) -> float:
        return float(pattern(rows).std(axis=1).mean())

    assert contrast(low) < 0.6 * contrast(above)
