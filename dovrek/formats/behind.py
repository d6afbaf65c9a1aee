"""Pictures behind a sky: photographs and pictures of the whole sky, made small enough to keep."""

from __future__ import annotations

import base64
import io
import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from PIL.PngImagePlugin import PngInfo

from dovrek.core.colour.backdrop import LIGHT, LINEAR
from dovrek.formats.references import BYTES_MOST, PhotographError, linear_of, read_reference
from dovrek.sky.behind import BEGINS, BEHIND_LETTERS

WIDEST, DOME_WIDEST = 2560, 768  # pixels of a kept photograph, of a kept linear dome
QUALITIES = (95, 90, 84, 75)
ROUND = (1.9, 2.1)  # width over height of a picture of the whole sky
BURNT, BURNT_SHARE = 250, 0.0005  # code from which, and share of pixels by which, a sun is burnt


class Taken(NamedTuple):
    """A picture as a document keeps it."""

    asset: str
    around: bool  # whether it is of the whole sky
    lens_mm: float | None
    brightest: tuple[float, float] | None  # height and bearing in degrees of a dome's sun
    notes: list[str]


def _jpeg(picture: Image.Image) -> str:
    """As good as fits. Raises PhotographError."""
    for quality in QUALITIES:
        buffer = io.BytesIO()
        picture.save(buffer, "JPEG", quality=quality, subsampling=0)
        text = BEGINS[0] + base64.b64encode(buffer.getvalue()).decode()
        if len(text) <= BEHIND_LETTERS:
            return text
    raise PhotographError("it has too much fine detail to be kept; make it smaller")


def _shared_exponent(linear: NDArray[np.float32]) -> str:
    """Linear colours as a PNG of mantissas and a common exponent (Ward 1991, real pixels)."""
    most = linear.max(axis=2)
    mantissa, exponent = np.frexp(np.maximum(most, 1e-30))
    scale = np.where(most > 1e-30, mantissa * 256.0 / np.maximum(most, 1e-30), 0.0)
    out = np.zeros((*linear.shape[:2], 4), np.uint8)
    out[..., :3] = np.clip(linear * scale[..., None], 0, 255)
    out[..., 3] = np.where(most > 1e-30, np.clip(exponent + 128, 1, 255), 0)
    buffer = io.BytesIO()
    said = PngInfo()
    said.add_text(LIGHT, LINEAR)
    Image.fromarray(out, "RGBA").save(buffer, "PNG", optimize=True, pnginfo=said)
    return BEGINS[1] + base64.b64encode(buffer.getvalue()).decode()


def _sun_of(luminance: NDArray[np.floating]) -> tuple[float, float]:
    """Height and bearing, degrees, of the middle of what is brightest in the upper half."""
    high, wide = luminance.shape
    upper = luminance[: high // 2]
    rows, columns = np.nonzero(upper >= 0.5 * float(upper.max()))
    up = np.radians(90.0 - 180.0 * (rows + 0.5) / high)
    bearing = np.radians(360.0 * (columns + 0.5) / wide - 180.0)
    weight = upper[rows, columns] * np.cos(up)
    x, y, z = (float((weight * v).sum()) for v in (
        np.cos(up) * np.sin(bearing), np.cos(up) * np.cos(bearing), np.sin(up)))
    return (round(math.degrees(math.atan2(z, math.hypot(x, y))), 1),
            round(math.degrees(math.atan2(x, y)) % 360.0, 1))


def behind_of(data: bytes, around: bool | None = None) -> Taken:
    """A picture file as a sky keeps it; `around` says that it is of the whole sky (unsaid: by its
    shape). Raises PhotographError."""
    notes: list[str] = []
    linear = linear_of(data)
    if linear is not None:
        high, wide = linear.shape[:2]
        dome = ROUND[0] <= wide / high <= ROUND[1] if around is None else around
        _refuse_shape(dome, wide, high)
        if dome:
            brightest = _sun_of(linear @ np.array([0.2126, 0.7152, 0.0722], np.float32))
            small = _smaller(linear, DOME_WIDEST)
            if small.shape[1] < wide:
                notes.append(f"brought to {small.shape[1]} × {small.shape[0]} pixels")
            return Taken(_shared_exponent(small), True, None, brightest, notes)
    photograph = read_reference(data)
    picture = Image.fromarray(photograph.pixels)
    wide, high = picture.size
    dome = ROUND[0] <= wide / high <= ROUND[1] if around is None else around
    _refuse_shape(dome, wide, high)
    sun: tuple[float, float] | None = None
    if dome:
        codes = np.asarray(picture, np.float32).mean(axis=2)
        sun = _sun_of(codes)
        if (codes[: high // 2] >= BURNT).mean() > BURNT_SHARE:
            notes.append("its sun is burnt out: it is a picture of codes, not of light, so set "
                         "the sun's strength by eye")
    if wide > WIDEST:
        picture = picture.resize((WIDEST, round(high * WIDEST / wide)), Image.Resampling.LANCZOS)
        notes.append(f"brought to {picture.width} × {picture.height} pixels")
    return Taken(_jpeg(picture), dome, photograph.lens_mm, sun, notes)


def _refuse_shape(dome: bool, wide: int, high: int) -> None:
    if dome and not ROUND[0] <= wide / high <= ROUND[1]:
        raise PhotographError(f"a picture of the whole sky is twice as wide as high; this has "
                              f"{wide} × {high} pixels. Take it as a photograph")


def _smaller(linear: NDArray[np.float32], widest: int) -> NDArray[np.float32]:
    """Means of whole blocks, so that its light stays."""
    block = -(-linear.shape[1] // widest)
    if block < 2:
        return linear
    h, w = linear.shape[0] // block, linear.shape[1] // block
    return np.asarray(linear[: h * block, : w * block].reshape(h, block, w, block, 3).mean(
        axis=(1, 3), dtype=np.float64), dtype=np.float32)


def colours_of(data: bytes) -> str:
    """A picture of the land from above, as a sky keeps it. Raises PhotographError."""
    if linear_of(data) is not None:
        raise PhotographError("it holds light, not colours; give a JPEG, PNG or TIFF")
    return behind_of(data, around=False).asset


__all__ = ["BYTES_MOST", "PhotographError", "Taken", "behind_of", "colours_of"]
