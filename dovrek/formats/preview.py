"""Read our own prints back for viewing."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import RGB_TO_XYZ


def sidecar_of(path: Path) -> dict[str, Any]:
    """The sidecar beside a print; empty when it is missing or torn."""
    try:
        found = json.loads(path.with_suffix(".json").read_text())
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}


def light_of_exr(path: Path) -> tuple[NDArray[np.float32], dict[str, Any]]:
    """Absolute XYZ light (h, w, 3) of a print and its sidecar."""
    with OpenEXR.File(str(path)) as file:
        channels = file.channels()
        pixels = next(channels[name].pixels for name in ("RGB", "RGBA") if name in channels)
        white = float(file.header()["whiteLuminance"])
    xyz = pixels[..., :3].astype(np.float64) @ RGB_TO_XYZ.T * white
    return xyz.astype(np.float32), sidecar_of(path)
