"""USD: a dome light with its picture, beams as distant lights, and the camera, as text (.usda).

In absolute units: the dome's intensity is the luminance of its picture's (1, 1, 1), a beam's is its
illuminance in lux (`normalize`: whatever its angle), and the camera's exposure brings both down to
the film's. Axes: z up, x east, y north, metres. Source: the schemas of UsdLux and UsdGeom; a
latlong picture has its top at the light's own +y and its middle at its own +z.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import XYZ_TO_RGB
from dovrek.core.lighting.beams import Beam
from dovrek.formats.whole_file import whole_file
from dovrek.sky.document import Camera


class Stage(NamedTuple):
    """What goes into the file."""

    dome: str  # name of the picture beside it
    white_cd_m2: float
    centre_deg: float
    beams: Sequence[Beam]
    camera: Camera
    said: dict[str, str]
    primaries: str = "rec709"


def write_stage(path: Path, stage: Stage) -> None:
    """Write lights and camera whole or not at all. Raises OSError."""
    lines = ["#usda 1.0", "(", '    defaultPrim = "Sky"', "    metersPerUnit = 1",
             '    upAxis = "Z"', "    customLayerData = {"]
    lines += [f"        string {key} = {_quoted(text)}" for key, text in stage.said.items()]
    lines += ["    }", ")", "", 'def Xform "Sky"', "{", *_dome(stage)]
    for beam in stage.beams:
        lines += ["", *_distant(beam)]
    lines += ["", *_camera(stage), "}", ""]
    with whole_file(path) as part:
        part.write_text("\n".join(lines))


def _quoted(text: str) -> str:
    kept = "".join(c for c in text if c.isprintable())
    return '"' + kept.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _matrix(x: NDArray[np.float64], y: NDArray[np.float64], z: NDArray[np.float64],
            place: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> list[str]:
    """A transform by where a prim's own axes point (rows, as USD multiplies from the left)."""
    rows = [(*x, 0.0), (*y, 0.0), (*z, 0.0), (*place, 1.0)]
    text = ", ".join("(" + ", ".join(f"{float(v) + 0.0:.9g}" for v in row) + ")" for row in rows)
    return [f"        matrix4d xformOp:transform = ( {text} )",
            '        uniform token[] xformOpOrder = ["xformOp:transform"]']


def _dome(stage: Stage) -> list[str]:
    centre = math.radians(stage.centre_deg)
    middle = np.array([math.sin(centre), math.cos(centre), 0.0])
    up = np.array([0.0, 0.0, 1.0])
    return ['    def DomeLight "Dome"', "    {",
            f"        float inputs:intensity = {stage.white_cd_m2:.9g}",
            f"        asset inputs:texture:file = @./{stage.dome}@ (",
            f'            colorSpace = "lin_{stage.primaries}_scene"', "        )",
            '        token inputs:texture:format = "latlong"',
            *_matrix(np.cross(up, middle), up, middle), "    }"]


def _distant(beam: Beam) -> list[str]:
    z = np.array(beam.place.vector)
    z = z / np.linalg.norm(z)
    x = np.cross((0.0, 0.0, 1.0), z)
    x = x / np.linalg.norm(x) if np.linalg.norm(x) > 1e-6 else np.array([1.0, 0.0, 0.0])
    rgb = np.maximum(XYZ_TO_RGB @ np.array(beam.xyz_lux), 0.0) / max(beam.lux, 1e-12)
    colour = ", ".join(f"{c:.6g}" for c in rgb)
    return [f'    def DistantLight "{beam.name.capitalize()}"', "    {",
            f"        float inputs:angle = {math.degrees(beam.diameter_rad):.6g}",
            f"        color3f inputs:color = ({colour})",
            f"        float inputs:intensity = {beam.lux:.9g}",
            "        bool inputs:normalize = 1", *_matrix(x, np.cross(z, x), z), "    }"]


def _camera(stage: Stage) -> list[str]:
    camera = stage.camera
    heading, pitch, roll = (math.radians(v) for v in (
        camera.heading_deg, camera.pitch_deg, camera.roll_deg))
    forward = np.array([math.sin(heading) * math.cos(pitch), math.cos(heading) * math.cos(pitch),
                        math.sin(pitch)])
    right = np.array([math.cos(heading), -math.sin(heading), 0.0])
    up = np.cross(right, forward)
    c, s = math.cos(roll), math.sin(roll)
    right, up = c * right - s * up, s * right + c * up
    width = 2.0 * camera.lens_mm * math.tan(0.5 * camera.fov_h_rad)
    height = 2.0 * camera.lens_mm * math.tan(0.5 * camera.fov_v_rad)
    return ['    def Camera "Camera"', "    {",
            f"        float exposure = {-math.log2(max(stage.white_cd_m2, 1e-9)):.6g}",
            f"        float focalLength = {camera.lens_mm:.6g}",
            f"        float horizontalAperture = {width:.6g}",
            f"        float verticalAperture = {height:.6g}",
            *_matrix(right, up, -forward, (camera.east_m, camera.north_m, camera.altitude_m)),
            "    }"]
