"""The parts a picture is made of, for compositing: each linear, and they add up exactly.

(1 − cover) · background + clouds = beauty, pixel by pixel: the background is averaged as it
shows between the clouds. It is the sky, and the ground below the horizon; `ground` is the ground
alone. The sun's disc, which shines through cloud more weakly than the sky around it, stands in the
background as dim as it is seen.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array32 = NDArray[np.float32]

# Rows of what the march sums up for a pixel.
CLOUD, BACK, GROUND, AIR, COVERED, FIRST, HITS, SHADOW = 0, 3, 6, 9, 12, 13, 14, 15
LAND, MET, MET_HITS, MATTE = 16, 17, 18, 19
LAYERS = 17  # all of a sky, and its fog
PASSES = MATTE + LAYERS


@dataclass(frozen=True)
class Passes:
    """Parts of an (h, w) picture; XYZ in cd/m²."""

    clouds: Array32  # (h, w, 3) light of the clouds and of the air before them
    cover: Array32  # (h, w) alpha of the clouds, 0 … 1
    background: Array32  # (h, w, 3) sky, and ground below the horizon, without cloud
    ground: Array32  # (h, w, 3) ground alone, black above the horizon
    air: Array32  # (h, w, 3) light that passes the air before clouds, ground or the farthest cloud
    depth_m: Array32  # (h, w) distance to the first cloud, infinite where there is none
    sunlit: Array32  # (h, w) share of sunlight on the ground seen, 1 above the horizon
    land: Array32  # (h, w) alpha of the land, clouds before it taken off
    ground_depth_m: Array32  # (h, w) distance to land or ground, infinite above them
    mattes: Array32  # (layers, h, w) alpha of each layer; they add up to `cover`


def passes_of(sums: Array32, samples: int, layers: int) -> Passes:
    """Passes from what `samples` rays a pixel have summed up, (h, w, PASSES)."""
    mean = sums / np.float32(samples)
    cover = mean[..., COVERED]
    between = np.maximum(1.0 - cover, 1e-6)[..., None]
    hits = sums[..., HITS]
    with np.errstate(divide="ignore", invalid="ignore"):
        depth = np.where(hits > 0, sums[..., FIRST] / hits, np.inf)
        met = np.where(sums[..., MET_HITS] > 0, sums[..., MET] / sums[..., MET_HITS], np.inf)
    return Passes(
        clouds=mean[..., CLOUD : CLOUD + 3], cover=cover,
        background=mean[..., BACK : BACK + 3] / between,
        ground=mean[..., GROUND : GROUND + 3] / between,
        air=mean[..., AIR : AIR + 3], depth_m=depth.astype(np.float32),
        sunlit=mean[..., SHADOW], land=mean[..., LAND], ground_depth_m=met.astype(np.float32),
        mattes=np.moveaxis(mean[..., MATTE : MATTE + layers], -1, 0))


def add_passes(sums: Array32, parts: Array32, weight: tuple[float, float, float],
               first: bool) -> None:
    """Add what one light of several has summed up; what is no light is the first one's."""
    for start in (CLOUD, BACK, GROUND):
        sums[..., start : start + 3] += parts[..., start : start + 3] * np.asarray(
            weight, dtype=np.float32)
    if first:
        sums[..., AIR:] += parts[..., AIR:]
