"""Film passes as named channels of an OpenEXR file, beside the beauty."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.spectrum import RGB_TO_XYZ, XYZ_TO_RGB
from dovrek.core.transport.passes import Passes


def pass_channels(passes: Passes, layer_ids: list[str], white: float) -> dict[str, NDArray[Any]]:
    """Channels by name, float32; RGB (1, 1, 1) is `white` cd/m².

    clouds.RGBA, sky.RGB (what is behind the clouds: sky, and ground below the horizon),
    ground.RGB, air.RGB (how much of a white light passes the air in front), depth.Z (m, to the
    first cloud), sunlit.Y (sunlight on the ground), matte.ID (alpha of one layer). sky · (1 −
    clouds.A) + clouds = beauty.
    """
    found: dict[str, NDArray[Any]] = {}

    def colour(name: str, xyz: NDArray[np.float32], scale: float) -> None:
        rgb = (xyz.astype(np.float64) @ XYZ_TO_RGB.T / scale).astype(np.float32)
        for k, letter in enumerate("RGB"):
            found[f"{name}.{letter}"] = np.ascontiguousarray(rgb[..., k])

    colour("clouds", passes.clouds, white)
    found["clouds.A"] = passes.cover.astype(np.float32)
    colour("sky", passes.background, white)
    colour("ground", passes.ground, white)
    colour("air", passes.air * (RGB_TO_XYZ @ np.ones(3)).astype(np.float32), 1.0)
    found["depth.Z"] = passes.depth_m
    found["ground_depth.Z"] = passes.ground_depth_m
    found["land.Y"] = np.ascontiguousarray(passes.land)
    found["sunlit.Y"] = np.ascontiguousarray(passes.sunlit)
    for name, matte in zip(layer_ids, passes.mattes, strict=True):
        found[f"matte.{name}"] = np.ascontiguousarray(matte)
    return found
