"""Dome, plan and film passes by the same march."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from PIL import Image

from dovrek.core.geometry.lens import dome_lens, plan_lens
from dovrek.core.picture.probe import dome_diffuse, measured_layer, probe
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Rendered, Studio, Wish
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.passes import Passes
from dovrek.core.transport.sample import DISTANCE
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from tests.conftest import free_sun, long

LAYERS = [{"genus": "cumulus", "id": "heaps", "cover_oktas": 3.5},
          {"genus": "cirrus", "id": "veil", "cover_oktas": 4.0}]


@pytest.fixture(scope="module")
def parted(studio: Studio) -> tuple[Rendered, Passes]:
    sky = free_sun(30, layers=LAYERS, camera={"heading_deg": 170, "pitch_deg": 12})
    rendered = studio.render(sky, Wish(192, 108, "final", passes=True))
    assert rendered.passes is not None
    return rendered, rendered.passes


def test_passes_add_up(parted: tuple[Rendered, Passes]) -> None:
    """Background between the clouds and the clouds themselves make the beauty, within 1e-3."""
    rendered, p = parted
    beauty = rendered.light[..., :3]
    made = p.background * (1.0 - p.cover[..., None]) + p.clouds
    assert np.abs(made - beauty).max() < 1e-3 * beauty.mean()
    assert p.mattes.sum(axis=0) == pytest.approx(p.cover, abs=1e-4)
    assert p.cover.min() >= 0.0 and 0.2 < p.cover[:60].mean() < 0.95


def test_passes_hold_what_they_say(parted: tuple[Rendered, Passes]) -> None:
    rendered, p = parted
    sky, ground = p.ground.sum(axis=2) == 0.0, p.ground.sum(axis=2) > 0.0
    assert 0.1 < ground.mean() < 0.5 and ground[-1].all() and sky[0].all()
    clear = p.cover < 1e-3
    assert np.isinf(p.depth_m[clear]).all() and np.isfinite(p.depth_m[p.cover > 0.05]).all()
    half = rendered.light[..., DISTANCE]
    half_way = half[half > 0]
    assert np.median(p.depth_m[half > 0] / half_way) < 1.0
    assert p.depth_m[np.isfinite(p.depth_m)].min() > 1000.0
    assert (p.air >= 0.0).all() and (p.air <= 1.0 + 1e-5).all()
    assert (p.sunlit[sky] == 1.0).all() and p.sunlit[ground].min() < 0.9


def test_passes_read_back(parted: tuple[Rendered, Passes], tmp_path: Path) -> None:
    """Read by the OpenEXR library, channel by channel; depth stays float in a half file."""
    rendered, p = parted
    for bits in ("float", "half"):
        path = tmp_path / f"{bits}.exr"
        write_picture(path, rendered.light, Developing(14.0, 6000, bits=bits),  # type: ignore[arg-type]
                      p, ["heaps", "veil"])
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = {k: v.pixels for k, v in file.channels().items()}
        assert {"R", "clouds.A", "sky.G", "ground.B", "air.R", "depth.Z", "sunlit.Y", "matte.heaps",
                "matte.veil"} <= set(channels)
        assert channels["depth.Z"].dtype == np.float32
        assert channels["clouds.A"].dtype == (np.float32 if bits == "float" else np.float16)
        made = channels["sky.G"].astype(float) * (1.0 - channels["clouds.A"]) + channels["clouds.G"]
        shown = channels["G"] < 6e4  # the sun's disc exceeds a half
        assert made[shown] == pytest.approx(channels["G"][shown].astype(float), abs=1e-3,
                                            rel=1e-5 if bits == "float" else 0.01)
        assert np.array_equal(channels["depth.Z"], p.depth_m)


def test_passes_need_openexr(parted: tuple[Rendered, Passes], tmp_path: Path) -> None:
    rendered, p = parted
    with pytest.raises(ValueError, match="exr"):
        write_picture(tmp_path / "x.png", rendered.light, Developing(14.0, 6000), p, ["a", "b"])
    assert list(tmp_path.iterdir()) == []


def test_plan_is_north_up_and_to_scale(studio: Studio) -> None:
    """The plan's clouds lie where columns of the density say, and its cover is the measured one."""
    sky = free_sun(60, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3.0}])
    rendered = studio.render(sky, Wish(100, 100, "final", "plan", ground=False, extent_km=20.0))
    body = rendered.prepared.bodies[0]
    found = measured_layer(body, studio.workers, Cancel(), 100)
    depths = np.empty((100, 100))
    from dovrek.core.clouds.measure import column_depths

    column_depths(body.field, 0, 10_000.0, 100, 60, 0, 100, depths, np.empty((100, 100)))
    seen = rendered.light[..., 3] > 0.5  # rows from north, columns from west
    true = depths.T[::-1] > 2.0  # first index east, second north
    assert np.corrcoef(seen.ravel(), true.ravel())[0, 1] > 0.7
    for turned in (true[::-1], true[:, ::-1], true.T):
        assert np.corrcoef(seen.ravel(), turned.ravel())[0, 1] < 0.3
    wide = studio.render(sky, Wish(120, 120, "proof", "plan", ground=False, extent_km=40.0))
    # By the mean of what is covered: clouds of a pixel or two are spread over their neighbours.
    assert 8.0 * wide.light[..., 3].mean() == pytest.approx(found["cover_measured_oktas"], abs=0.6)
    assert plan_lens(20e3).half_width == 10e3


def test_shadows_lie_where_the_sun_throws_them(studio: Studio) -> None:
    """On a plan the ground's shadow is the cover moved by base / tan(sun's height), away from the
    sun (geometry): cross-correlation peaks there."""
    sky = free_sun(45, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 1.5,
                                "base_m": 2000, "thickness_m": 500}])
    rendered = studio.render(sky, Wish(128, 128, "final", "plan", passes=True, extent_km=16.0))
    p = rendered.passes
    assert p is not None
    shade, cover = 1.0 - p.sunlit, p.cover
    product = np.fft.fft2(shade - shade.mean()) * np.conj(np.fft.fft2(cover - cover.mean()))
    peak = np.unravel_index(np.argmax(np.fft.ifft2(product).real), shade.shape)
    rows = (peak[0] + 64) % 128 - 64
    columns = (peak[1] + 64) % 128 - 64
    # The sun stands in the south: shadows fall to the north, up the plan, by about 2.1 km.
    assert -rows * 125.0 == pytest.approx(2100.0, abs=400.0) and abs(columns) <= 2
    assert shade.min() < 0.05 and shade.max() > 0.6


@pytest.mark.parametrize("elevation", [50.0, long(8.0)])
def test_dome_and_probe_agree(studio: Studio, elevation: float) -> None:
    """The cosine-weighted upper half of a dome is `probe`'s diffuse illuminance within 2 %, clear
    and with clouds (geometry)."""
    for layers, key in (([], "clear_sky"), (LAYERS, "sky")):
        sky = free_sun(elevation, layers=layers)
        prepared, _ = studio.prepare(sky, Wish(), Cancel())
        frame = render_frame(prepared, dome_lens(), (512, 256), QUALITIES["final"],
                             studio.workers, Cancel(), sun_disc=False)
        told = probe(sky, studio.preparer, Cancel())[key]["diffuse_horizontal_lux"]
        assert dome_diffuse(frame)[1] == pytest.approx(told, rel=0.02)


@pytest.mark.parametrize(("height", "haze"), [(55, 0.1), (20, 0.1), (20, 0.35), (6, 0.1)])
def test_ground_does_not_jump_as_a_first_cloud_comes(studio: Studio, height: float,
                                                     haze: float) -> None:
    """Under next to no cloud the ground is as bright as under none, within 3 %: light that falls
    through gaps is counted on other ways than that of a clear sky."""
    seen = []
    for layers in ([], [{"genus": "altocumulus", "id": "a", "cover_oktas": 0.05}]):
        sky = free_sun(height, air={"haze": haze}, layers=layers, camera={"altitude_m": 100.0})
        light = studio.render(sky, Wish(48, 24, "proof", "dome", sun_disc=False)).light
        seen.append(np.median(light[16:, :, :3], axis=(0, 1)))
    assert seen[1] == pytest.approx(seen[0], rel=0.03)


def test_ground_half_of_the_dome_is_the_ground(studio: Studio) -> None:
    """Straight down: albedo × illuminance / π (Lambert), sunlit or in a cloud's shadow."""
    sky = free_sun(40, air={"ground_albedo": 0.3, "haze": 0.05})
    light = studio.render(sky, Wish(64, 32, "proof", "dome", sun_disc=False)).light[..., 1]
    told = probe(sky, studio.preparer, Cancel())["clear_sky"]["global_horizontal_lux"]
    assert light[-1].mean() == pytest.approx(0.3 * told / math.pi, rel=0.04)


def test_high_cloud_glows_after_sunset(studio: Studio) -> None:
    """Cirrus at 9 km still has sun at −2.5° while the ground has none, and it is red (geometry:
    its horizon dips by √(2h/R) = 3°)."""
    from dovrek.core.air.sunlight import sunlight_at

    scene = studio.preparer.scene(free_sun(-2.5), FINE, Cancel()).scene
    low, high = np.zeros(3), np.zeros(3)
    sun = np.array(scene.sun["direction"])
    sunlight_at(scene.sunlight, sun, scene.radius, 0.0, 0.0, 10.0, low)
    sunlight_at(scene.sunlight, sun, scene.radius, 0.0, 0.0, 9000.0, high)
    assert low[1] < 1.0 and high[1] > 300.0
    assert high[0] / high[1] > 1.2 > high[2] / high[1] * 3.0


def test_commands_of_plan_and_passes(tmp_path: Path) -> None:
    from click.testing import CliRunner

    from dovrek.cli import main

    path = tmp_path / "sky.json"
    path.write_text(json.dumps({"dovrek": 1, "layers": [{"genus": "cirrus"}]}))

    def call(*words: str) -> Any:
        return CliRunner().invoke(main, ["render", str(path), *words])

    out = tmp_path / "plan.png"
    found = call("-o", str(out), "--view", "plan", "--size", "48x48", "--extent", "80")
    assert found.exit_code == 0
    assert out.exists()
    globe = tmp_path / "globe.png"
    found = call("-o", str(globe), "--view", "plan", "--size", "48x48", "--extent", "20000",
                 "--quality", "draft")
    assert found.exit_code == 0, found.output
    shown = np.asarray(Image.open(globe).convert("L"), dtype=float)
    corners = shown[[2, 2, -3, -3], [2, -3, 2, -3]]
    assert shown[20:28, 20:28].mean() > 3.0 * corners.mean()  # the globe's face, and beside it
    for words, said in ((["-o", str(tmp_path / "a.png"), "--passes"], "--passes"),
                        (["-o", str(tmp_path / "a.png"), "--extent", "20"], "--extent"),
                        (["-o", str(tmp_path / "a.png"), "--view", "plan", "--extent", "3e5"],
                         "--extent")):
        found = call(*words)
        assert found.exit_code == 2 and said in found.output
    assert not (tmp_path / "a.png").exists()
