"""Cover maps from picture files: PNG or TIFF of any depth, made grey and small."""

from __future__ import annotations

import base64
import io

import numpy as np
import tifffile
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.clouds.cover_map import SIDE
from dovrek.formats import bounds
from dovrek.sky.layer import MAP_PREFIX

BYTES_MOST = 40 * 1024 * 1024
LEAST_CONTRAST = 0.02


class MapError(Exception):
    """A picture that cannot be a cover map; says why and what to do."""


def pixels_of(data: bytes) -> np.ndarray:
    """Values of a PNG or TIFF as they come, any depth. Raises MapError, TooMuch."""
    if data[:4] in (b"II*\0", b"MM\0*"):
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            return np.asarray(bounds.tiff_page(file, data).asarray())
    picture: Image.Image = Image.open(io.BytesIO(data))
    if picture.format != "PNG":
        raise MapError(f"a {picture.format or 'file of this kind'} is no cover map; give a grey "
                       "PNG or TIFF")
    bounds.refuse_picture(picture)
    if picture.mode in ("P", "CMYK", "LA", "RGBA", "PA", "1"):
        picture = picture.convert("RGB")
    return np.asarray(picture)


def _grey(given: np.ndarray, side: int) -> tuple[np.ndarray, float, float]:
    """(h, w) values made small and grey by their luminance, and the least and largest there were.
    Raises MapError."""
    if given.ndim not in (2, 3) or min(given.shape[:2]) < 2:
        raise MapError("it is no picture of at least 2 × 2 pixels; give a grey PNG or TIFF")
    plain = given[..., 0] if given.ndim == 3 and given.shape[2] < 3 else given[..., :3] if (
        given.ndim == 3) else given
    small = bounds.reduced(plain, side).astype(np.float64)
    small = np.nan_to_num(small, nan=0.0, posinf=0.0, neginf=0.0)
    grey = small @ np.array([0.2126, 0.7152, 0.0722]) if small.ndim == 3 else small
    return grey, float(grey.min()), float(grey.max())


def greys_of(data: bytes, side: int = SIDE) -> NDArray[np.uint8]:
    """Codes 0 … 255 of a picture file, its whole range, made smaller to no less than a side of so
    many pixels. Raises MapError."""
    if not data:
        raise MapError("the file is empty; give a grey PNG or TIFF")
    if len(data) > BYTES_MOST:
        raise MapError(f"the file is larger than {BYTES_MOST // 2**20} MB; give a smaller one")
    try:
        with bounds.turn:
            values, low, high = _grey(pixels_of(data), side)
    except MapError:
        raise
    except bounds.TooMuch as error:
        raise MapError(str(error)) from None
    except Exception:
        raise MapError("it cannot be read as a picture; give a grey PNG or TIFF") from None
    if high - low <= LEAST_CONTRAST * max(abs(low), abs(high), 1e-12):
        raise MapError("the picture is of one grey all over; give one with dark and light parts")
    return np.round(255.0 * (values - low) / (high - low)).astype(np.uint8)


def embedded(data: bytes) -> str:
    """A picture file as the text a sky document keeps. Raises MapError.

    Colour becomes its luminance; the whole range of the file becomes black to white.
    """
    grey = Image.fromarray(greys_of(data), "L")
    grey.thumbnail((SIDE, SIDE), Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    grey.save(buffer, "PNG", optimize=True)
    return MAP_PREFIX + base64.b64encode(buffer.getvalue()).decode()
