"""Cover maps from picture files: PNG or TIFF of any depth, made grey and small."""

from __future__ import annotations

import base64
import io
from pathlib import Path

import numpy as np
import tifffile
from PIL import Image

from dovrek.core.clouds.cover_map import SIDE
from dovrek.sky.layer import MAP_PREFIX

BYTES_MOST = 40 * 1024 * 1024
PIXELS_MOST = 64_000_000
LEAST_CONTRAST = 0.02
TOO_MANY = "the picture has too many pixels; make it smaller than 8000 × 8000"


class MapError(Exception):
    """A picture that cannot be a cover map; says why and what to do."""


def _pixels(data: bytes) -> np.ndarray:
    """Values of a PNG or TIFF, any depth, as floats."""
    if data[:4] in (b"II*\0", b"MM\0*"):
        with tifffile.TiffFile(io.BytesIO(data)) as file:
            page = file.pages[0]
            if int(np.prod(page.shape)) > 4 * PIXELS_MOST:
                raise MapError(TOO_MANY)
            return np.asarray(page.asarray(), dtype=np.float64)
    picture: Image.Image = Image.open(io.BytesIO(data))
    if picture.format != "PNG":
        raise MapError(f"a {picture.format or 'file of this kind'} is no cover map; give a grey "
                       "PNG or TIFF")
    if picture.width * picture.height > PIXELS_MOST:
        raise MapError(TOO_MANY)
    if picture.mode in ("P", "CMYK", "LA", "RGBA", "PA"):
        picture = picture.convert("RGB")
    return np.asarray(picture, dtype=np.float64)


def embedded(data: bytes) -> str:
    """A picture file as the text a sky document keeps. Raises MapError.

    Colour becomes its luminance; the whole range of the file becomes black to white.
    """
    if not data:
        raise MapError("the file is empty; give a grey PNG or TIFF")
    if len(data) > BYTES_MOST:
        raise MapError(f"the file is larger than {BYTES_MOST // 2**20} MB; give a smaller one")
    try:
        values = _pixels(data)
    except MapError:
        raise
    except Image.DecompressionBombError:
        raise MapError(TOO_MANY) from None
    except Exception:
        raise MapError("it cannot be read as a picture; give a grey PNG or TIFF") from None
    if values.ndim == 3:
        values = values[..., :3] @ np.array([0.2126, 0.7152, 0.0722]) if values.shape[2] >= 3 else (
            values[..., 0])
    if values.ndim != 2 or min(values.shape) < 2:
        raise MapError("it is no picture of at least 2 × 2 pixels; give a grey PNG or TIFF")
    values = np.nan_to_num(values, nan=0.0, posinf=0.0, neginf=0.0)
    low, high = float(values.min()), float(values.max())
    if high - low <= LEAST_CONTRAST * max(abs(low), abs(high), 1e-12):
        raise MapError("the picture is of one grey all over; give one with dark and light parts")
    grey = Image.fromarray(np.round(255.0 * (values - low) / (high - low)).astype(np.uint8), "L")
    grey.thumbnail((SIDE, SIDE), Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    grey.save(buffer, "PNG", optimize=True)
    return MAP_PREFIX + base64.b64encode(buffer.getvalue()).decode()


def embedded_file(path: Path) -> str:
    """`embedded` of a file on disk. Raises MapError."""
    try:
        with path.open("rb") as file:
            return embedded(file.read(BYTES_MOST + 1))
    except OSError as error:
        raise MapError(f"{path} cannot be read ({error.strerror}); check the path") from None
