"""The sidecar of a print: what the next program needs to line up its sun with the sky."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

from dovrek import __version__
from dovrek.core.air.sun_place import Place, moon_place
from dovrek.core.picture.render import Metered
from dovrek.formats.whole_file import whole_file
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_to_data


def _direction(place: Place) -> dict[str, Any]:
    return {
        "elevation_deg": math.degrees(place.elevation),
        "azimuth_deg": math.degrees(place.azimuth) % 360.0,
        "vector": list(place.vector),
    }


def sidecar(sky: Sky, sun: Place, light: dict[str, Any], metered: Metered,
            picture: dict[str, Any], notes: list[str]) -> dict[str, Any]:
    """All of it as plain data; `picture` holds file, size, projection, bits, quality, seconds."""
    moon, fraction, _ = moon_place(sky)
    return {
        "renderer": f"dovrek {__version__}",
        "sky": sky_to_data(sky),
        "picture": picture,
        "moment": sky.local_moment().isoformat(),
        "axes": "x east, y north, z up",
        "sun": _direction(sun) | {
            "direct_normal_lux": light["sun"]["direct_normal_lux"]},
        "moon": _direction(moon) | {"illuminated_fraction": fraction},
        "illuminance": light["sky"],
        "exposure": {"ev": metered.ev, "white_balance_k": metered.kelvins,
                     "contrast": metered.contrast, "saturation": metered.saturation,
                     "curve": metered.curve._asdict(), **metered.glass._asdict()},
        "camera": sky.camera.model_dump() | {
            "fov_h_deg": math.degrees(sky.camera.fov_h_rad),
            "fov_v_deg": math.degrees(sky.camera.fov_v_rad)},
        "notes": notes,
    }


def write_sidecar(path: Path, data: dict[str, Any]) -> None:
    """Write the sidecar whole or not at all."""
    with whole_file(path) as part:
        part.write_text(json.dumps(data, indent=1, ensure_ascii=False))
