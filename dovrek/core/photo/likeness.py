"""What is measured on a developed picture, ours or a photograph, so that two can be compared."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import OF_CODE, encode_srgb
from dovrek.core.colour.spectrum import LUMINANCE_RGB

Pixels = NDArray[np.uint8]
Mask = NDArray[np.bool_]

# Red over blue above which a pixel of a photograph is cloud. Sky cameras take 0.6 (Long et al.
# 2006, J. Atmos. Oceanic Technol. 23); on developed pictures, whose tones are gathered and whose
# horizon is pale, that counts haze. Over 80 random skies 0.6 is 2.5 oktas off on the mean, 0.82 is
# 1.1; made vivid or styled 1.5 and 1.8, against 1.0 and 1.0. Adjustable, since cameras differ.
RATIO = 0.82
RATIO_LIMITS = (0.2, 1.2)
DIM = 8.0 / 255.0  # darker pixels say nothing of colour
BINS = 32


class Likeness(NamedTuple):
    """Numbers of one picture's sky."""

    cover_oktas: float | None  # null where no pixel can be told
    histogram: list[float]  # shares of pixels by luminance of the developed picture, 0 … 1
    zenith: str  # mean colours of the upper, middle and lowest third of the sky, #rrggbb
    middle: str
    horizon: str
    contrast: float | None  # mean luminance of cloud over that of clear sky
    brightness: float  # mean developed luminance, 0 … 1
    hidden: float  # share of the sky's part of the frame that something stands before

    def data(self) -> dict[str, Any]:
        return self._asdict()


def linear(pixels: Pixels) -> NDArray[np.float64]:
    """Linear light of sRGB pixels."""
    found: NDArray[np.float64] = OF_CODE[pixels]
    return found


def made_small(pixels: Pixels, width: int) -> Pixels:
    """A picture brought to a width by the mean of its pixels."""
    height = max(8, round(width * pixels.shape[0] / pixels.shape[1]))
    return np.asarray(Image.fromarray(pixels).resize((width, height), Image.Resampling.BOX))


def shares_at(mask: Mask, size: tuple[int, int]) -> NDArray[np.float64]:
    """Share of a mask in each pixel of another size (w, h)."""
    grey = Image.fromarray(np.asarray(255 * mask, dtype=np.uint8))
    return np.asarray(grey.resize(size, Image.Resampling.BOX), dtype=float) / 255.0


def mask_at(mask: Mask, size: tuple[int, int]) -> Mask:
    """A mask at another size (w, h): where any of its pixels lies."""
    return np.asarray(shares_at(mask, size) > 0.0)


def sky_rows(height: int, horizon: float) -> int:
    """Rows above a horizon line given as a share of the height (0 top, 1 bottom)."""
    return int(np.clip(round(horizon * height), 1, height))


def cloud_mask(pixels: Pixels, ratio: float = RATIO) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Pixels that are cloud by the ratio of red to blue, and those that can be told at all."""
    encoded = pixels.astype(np.float64) / 255.0
    red, blue = encoded[..., 0], encoded[..., 2]
    told = encoded.max(axis=2) > DIM
    return (red > ratio * np.maximum(blue, 1e-6)) & told, told


def _hex(rgb: NDArray[np.float64]) -> str:
    codes = [round(255 * encode_srgb(float(c))) for c in rgb]
    return "#" + "".join(f"{c:02x}" for c in codes)


def likeness_of(pixels: Pixels, horizon: float = 1.0, ratio: float = RATIO,
                hidden: Mask | None = None) -> Likeness:
    """Measure the sky of a picture, the part above its horizon line that is not `hidden` (h, w)
    by what stands before it."""
    sky = pixels[: sky_rows(pixels.shape[0], horizon)]
    mask, told = cloud_mask(sky, ratio)
    seen = np.ones_like(told) if hidden is None or hidden[: len(sky)].all() else (
        ~hidden[: len(sky)])
    told = told & seen
    light = linear(sky)
    luminance = light @ LUMINANCE_RGB
    shares, _ = np.histogram(pixels.astype(np.float64) @ LUMINANCE_RGB / 255.0, bins=BINS,
                             range=(0.0, 1.0))
    thirds = [light[part][seen[part] if seen[part].any() else ...] for part in np.array_split(
        np.arange(len(sky)), 3)] if sky.shape[0] >= 3 else [light] * 3
    upper, middle, low = (_hex(part.reshape(-1, 3).mean(axis=0)) for part in thirds)
    cloud, clear = mask & told, ~mask & told
    both = cloud.any() and clear.any()
    return Likeness(
        8.0 * float(mask[told].mean()) if told.any() else None,
        [float(s) for s in shares / shares.sum()], upper, middle, low,
        float(luminance[cloud].mean() / max(luminance[clear].mean(), 1e-6)) if both else None,
        float(luminance[seen].mean()), float(1.0 - seen.mean()))


def mask_overlay(pixels: Pixels, horizon: float, ratio: float, hidden: Mask | None = None
                 ) -> Pixels:
    """The picture with what counts as cloud hatched in rust and its horizon line drawn; level
    lines lie over what is `hidden` (h, w) by things before the sky."""
    out = pixels.copy()
    rows = sky_rows(pixels.shape[0], horizon)
    mask, _ = cloud_mask(pixels[:rows], ratio)
    y, x = np.indices(mask.shape)
    before = np.zeros_like(mask) if hidden is None else hidden[:rows]
    hatched = mask & ~before & ((x + y) % 6 < 2)
    out[:rows][hatched] = (138, 47, 18)
    out[:rows][before & (y % 5 < 2)] = (40, 40, 40)
    out[max(rows - 1, 0) : rows + 1] = (138, 47, 18)
    return out


def difference_of(first: Pixels, second: Pixels) -> Pixels:
    """Lightness of the second against the first: grey where alike, light where lighter."""
    a, b = (np.asarray(p, dtype=np.float64) @ LUMINANCE_RGB for p in (first, second))
    grey = np.clip(128.0 + 1.5 * (b - a), 0.0, 255.0).astype(np.uint8)
    return np.repeat(grey[..., None], 3, axis=2)


def horizon_of(pitch_deg: float, fov_v_rad: float) -> float:
    """Where a level horizon lies in a frame, as a share of its height from the top."""
    return 0.5 + 0.5 * math.tan(math.radians(pitch_deg)) / math.tan(0.5 * fov_v_rad)


def pitch_of(horizon: float, fov_v_rad: float) -> float:
    """Degrees that a camera is tilted whose level horizon lies at a share of a frame's height."""
    return math.degrees(math.atan((2.0 * horizon - 1.0) * math.tan(0.5 * fov_v_rad)))
