"""A dome with its lights: sums, directions and faces, read back by USD's own library."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from click.testing import CliRunner
from PIL import Image

from dovrek.cli import main
from dovrek.core.air.sun_place import Place
from dovrek.core.lighting.balls import Lights, proof_picture, without_bodies
from dovrek.core.lighting.beams import Beam, with_discs
from dovrek.core.lighting.totals import FACES, beams_lux, directions, face_lux
from dovrek.core.picture.studio import Studio
from dovrek.core.run.workers import Cancel
from dovrek.sky.reading import sky_to_text
from tests.conftest import free_sun

Gf = pytest.importorskip("pxr.Gf")
from pxr import Usd, UsdGeom, UsdLux  # noqa: E402

SKY = free_sun(35, name="Heaps", layers=[{"id": "a", "genus": "cumulus", "cover_oktas": 2}])
CENTRE = 70.0


def written(folder: Path, *words: str, sky: Any = SKY) -> dict[str, Any]:
    (folder / "sky.json").write_text(sky_to_text(sky))
    found = CliRunner().invoke(main, [
        "dome", str(folder / "sky.json"), "-o", str(folder / "out"), "--quality", "draft",
        "--json", *words])
    assert found.exit_code == 0, found.output
    told: dict[str, Any] = json.loads(found.stdout)
    return told


@pytest.fixture(scope="module")
def apart(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, Any]]:
    folder = tmp_path_factory.mktemp("apart")
    return folder / "out", written(folder, "--size", "512x256", "--centre", f"{CENTRE}",
                                   "--faces", "96")


def pixels(path: Path) -> tuple[np.ndarray, float]:
    with OpenEXR.File(str(path)) as file:
        return file.channels()["RGB"].pixels.astype(np.float64), file.header()["whiteLuminance"]


def luminance(path: Path) -> np.ndarray:
    rgb, white = pixels(path)
    return np.asarray(rgb @ [0.2126, 0.7152, 0.0722] * white)


def test_dome_and_beam_in_usd_sum_to_the_sky_s_light(apart: tuple[Path, dict[str, Any]]) -> None:
    """Total illuminance within 2 % of the renderer's, through usd-core: the dome's picture turned
    by the light's own transform (UsdLux: top at +y, middle at +z), the beam along its own z."""
    folder, told = apart
    stage = Usd.Stage.Open(str(folder / "heaps.usda"))
    assert UsdGeom.GetStageUpAxis(stage) == "Z"
    assert UsdGeom.GetStageMetersPerUnit(stage) == 1.0
    dome = UsdLux.DomeLight(stage.GetPrimAtPath("/Sky/Dome"))
    sun = UsdLux.DistantLight(stage.GetPrimAtPath("/Sky/Sun"))
    file = Path(dome.GetTextureFileAttr().Get().resolvedPath)
    assert file.name == "heaps.exr" and dome.GetTextureFormatAttr().Get() == "latlong"
    rgb, _ = pixels(file)
    height, width = rgb.shape[:2]
    # Longitude falls from π at the left to −π at the right (OpenEXR's latlong pictures).
    lon = math.pi - (np.arange(width) + 0.5) / width * 2 * math.pi
    lat = (0.5 - (np.arange(height) + 0.5) / height) * math.pi
    own = np.stack([np.outer(np.cos(lat), np.sin(lon)), np.outer(np.sin(lat), np.ones(width)),
                    np.outer(np.cos(lat), np.cos(lon))], axis=2)
    matrix = np.array(UsdGeom.Xformable(dome).ComputeLocalToWorldTransform(0))[:3, :3]
    world = own @ matrix
    assert world == pytest.approx(directions(width, height, math.radians(CENTRE))[0], abs=1e-6)
    solid = np.cos(lat)[:, None] * (2 * math.pi / width) * (math.pi / height)
    nits = rgb @ [0.2126, 0.7152, 0.0722] * dome.GetIntensityAttr().Get()
    sky_lux = float((nits * solid * np.maximum(world[..., 2], 0)).sum())
    assert sun.GetNormalizeAttr().Get()
    toward = np.array(UsdGeom.Xformable(sun).ComputeLocalToWorldTransform(0))[2, :3]
    weight = float(np.array(sun.GetColorAttr().Get()) @ [0.2126, 0.7152, 0.0722])
    assert weight == pytest.approx(1.0, abs=2e-3)
    sun_lux = sun.GetIntensityAttr().Get() * toward[2]
    side = json.loads((folder / "heaps.json").read_text())
    assert toward == pytest.approx(side["sun"]["vector"], abs=1e-6)
    assert sky_lux + sun_lux == pytest.approx(side["illuminance"]["global_horizontal_lux"],
                                              rel=0.02)
    assert sun_lux == pytest.approx(side["illuminance"]["direct_horizontal_lux"], rel=0.01)
    numbers = told["illuminance_lux"]
    for face in FACES:
        assert numbers["files"][face] == pytest.approx(numbers["renderer"][face], rel=0.03)


def test_the_camera_of_the_stage_sees_what_ours_does(apart: tuple[Path, dict[str, Any]]) -> None:
    stage = Usd.Stage.Open(str(apart[0] / "heaps.usda"))
    camera = UsdGeom.Camera(stage.GetPrimAtPath("/Sky/Camera")).GetCamera(0)
    assert math.degrees(SKY.camera.fov_h_rad) == pytest.approx(
        camera.GetFieldOfView(Gf.Camera.FOVHorizontal), abs=1e-3)
    assert math.degrees(SKY.camera.fov_v_rad) == pytest.approx(
        camera.GetFieldOfView(Gf.Camera.FOVVertical), abs=1e-3)
    ahead = -np.array(camera.transform)[2, :3]
    pitch, heading = (math.radians(v) for v in (SKY.camera.pitch_deg, SKY.camera.heading_deg))
    assert ahead == pytest.approx([math.cos(pitch) * math.sin(heading),
                                   math.cos(pitch) * math.cos(heading), math.sin(pitch)], abs=1e-6)


@pytest.mark.long
def test_a_sun_in_the_dome_gives_what_it_gives_apart(tmp_path: Path) -> None:
    """The brightest pixel stands where azimuth and elevation say; the sum is that of the sky."""
    told = written(tmp_path, "--size", "256x128", "--sun", "in", "--centre", "200")
    found = luminance(tmp_path / "out" / "heaps.exr")
    side = json.loads((tmp_path / "out" / "heaps.json").read_text())
    ground = face_lux(found.astype(np.float32), FACES["ground"], math.radians(200))
    assert ground == pytest.approx(side["illuminance"]["global_horizontal_lux"], rel=0.02)
    assert told["illuminance_lux"]["files"]["ground"] == pytest.approx(ground, rel=1e-3)
    row, column = np.unravel_index(int(found.argmax()), found.shape)
    azimuth = (200.0 + ((column + 0.5) / 256 - 0.5) * 360.0) % 360.0
    assert azimuth == pytest.approx(side["sun"]["azimuth_deg"], abs=1.5)
    assert (0.5 - (row + 0.5) / 128) * 180 == pytest.approx(side["sun"]["elevation_deg"], abs=1.5)
    stage = Usd.Stage.Open(str(tmp_path / "out" / "heaps.usda"))
    assert not stage.GetPrimAtPath("/Sky/Sun")


def test_cube_faces_show_the_dome(apart: tuple[Path, dict[str, Any]]) -> None:
    """The same light in the same directions, but for the fineness of pixels."""
    folder, _ = apart
    dome = luminance(folder / "heaps.exr")
    height, width = dome.shape
    for face, (turn, pitch) in {"front": (0, 0), "right": (90, 0), "back": (180, 0),
                                "left": (270, 0), "up": (0, 90), "down": (0, -90)}.items():
        seen = luminance(folder / f"heaps-{face}.exr")
        n = len(seen)
        a, p = math.radians(CENTRE + turn), math.radians(pitch)
        forward = np.array([math.cos(p) * math.sin(a), math.cos(p) * math.cos(a), math.sin(p)])
        right = np.array([math.cos(a), -math.sin(a), 0.0])
        up = np.cross(right, forward)
        u = (np.arange(n) + 0.5) / n * 2 - 1
        ray = forward + u[None, :, None] * right - u[:, None, None] * up
        ray /= np.linalg.norm(ray, axis=2, keepdims=True)
        azimuth = np.arctan2(ray[..., 0], ray[..., 1]) - math.radians(CENTRE)
        column = ((azimuth / (2 * math.pi) + 0.5) % 1.0 * width).astype(int) % width
        row = np.clip(((0.5 - np.arcsin(np.clip(ray[..., 2], -1, 1)) / math.pi) * height)
                      .astype(int), 0, height - 1)
        other = dome[row, column]
        assert seen.mean() == pytest.approx(other.mean(), rel=0.05), face
        assert float(np.median(np.abs(seen - other) / other)) < 0.06, face


def test_the_proof_of_lighting_is_a_picture_with_numbers(apart: tuple[Path, dict[str, Any]]
                                                         ) -> None:
    image = np.asarray(Image.open(apart[0] / "heaps-lighting.png"))
    assert image.shape == (420, 1060, 3)
    assert image[:, :760].std() > 20 and image[:, 780:].min() < 80


def test_bodies_under_an_even_dome_and_a_beam(studio: Studio) -> None:
    """Closed forms: an even dome L gives πL on open ground, a beam E sin h; a mirror shows the
    dome times its reflectance; what stands in the shadow of a body sees no beam."""
    even = np.full((64, 128, 3), 500.0, np.float32)
    lights = Lights(even, 0.0, (((0.0, -0.6, 0.8), (8000.0, 8000.0, 8000.0)),))
    lit = proof_picture(lights, (190, 105), studio.workers, Cancel())
    open_ground = lit[100, 4]
    assert open_ground == pytest.approx(0.18 / math.pi * (math.pi * 500 + 8000 * 0.8), rel=0.03)
    assert lit.max() < 0.9 / math.pi * (math.pi * 500 + 8000) + 500
    shaded = proof_picture(Lights(even, 0.0, ()), (190, 105), studio.workers, Cancel())
    assert (lit - shaded).min() > -1.0 and float(np.mean(lit - shaded < 1.0)) > 0.02


def test_a_disc_in_the_dome_becomes_a_beam_again() -> None:
    place = Place(math.radians(30), math.radians(30), math.radians(250))
    beam = Beam("sun", place, math.radians(0.53), (95000.0, 100000.0, 90000.0))
    for width in (64, 512, 2048):
        dome = with_discs(np.full((width // 2, width, 5), 1000.0, np.float32), [beam], 1.0)
        lux = face_lux(dome[..., 1], place.vector, 1.0)
        assert lux - math.pi * 1000 == pytest.approx(100000.0, rel=0.01), width
    found = without_bodies(Lights(dome[..., :3], 1.0, ()))
    (vector, light), = found.beams
    assert vector == pytest.approx(place.vector, abs=2e-3)
    assert light[1] == pytest.approx(100000.0, rel=0.01)
    assert beams_lux([(vector, light[1])], (0, 0, 1)) == pytest.approx(50000.0, rel=0.02)


@pytest.mark.parametrize(("words", "part"), [
    (["--size", "512x512"], "--size: 512x512 is no dome"),
    (["--name", "../x"], "--name"),
    (["--name", "a\x07b"], "--name"),
    (["--faces", "4"], "--faces"),
    (["--scale", "absolute", "--bits", "half"], "--scale"),
    (["--clip", "99999"], "--clip"),
])
def test_refusals_name_the_mend(tmp_path: Path, words: list[str], part: str) -> None:
    (tmp_path / "sky.json").write_text(sky_to_text(SKY))
    found = CliRunner().invoke(main, ["dome", str(tmp_path / "sky.json"), "-o",
                                      str(tmp_path / "out"), *words])
    assert found.exit_code == 2 and part in found.output, found.output
    assert not (tmp_path / "out").exists()
