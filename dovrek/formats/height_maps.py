"""Height maps from picture files: PNG or TIFF of any depth, OpenEXR; grey, or one channel.

A map is kept inside the sky document as a PNG of 16 bits, at most `SIDE` pixels a side.
"""

from __future__ import annotations

import base64
import io
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.land.map_heights import DEEP, SIDE
from dovrek.formats import bounds
from dovrek.formats.cover_maps import MapError, pixels_of
from dovrek.formats.references import PhotographError, linear_exr
from dovrek.sky.layer import MAP_PREFIX

BYTES_MOST = 160 * 1024 * 1024
LEAST_CONTRAST = 1e-4
EXR, TIFF = b"\x76\x2f\x31\x01", (b"II*\0", b"MM\0*")
HOLES_TOLD = 0.001  # share of places without a height that is worth a word


class Heights(NamedTuple):
    """A height map taken in."""

    asset: str  # as a document keeps it
    notes: list[str]  # what was done to it


def _one_channel(given: NDArray[np.generic]) -> NDArray[np.generic]:
    """The grey of a picture, or that channel of a coloured one that tells most."""
    if given.ndim not in (2, 3) or min(given.shape[:2]) < 2:
        raise MapError("it is no picture of at least 2 × 2 pixels; give a grey PNG, TIFF or "
                       "OpenEXR")
    if given.ndim == 2 or given.shape[2] < 3:
        return given if given.ndim == 2 else given[..., 0]
    some = given[:: max(given.shape[0] // 256, 1), :: max(given.shape[1] // 256, 1), :3]
    spread = np.nan_to_num(np.nanstd(some.astype(np.float64), axis=(0, 1)))
    return given[..., int(np.argmax(spread))]


def _values(data: bytes) -> tuple[NDArray[np.generic], tuple[int, int], bool]:
    """Values, those of a large PNG made smaller already; width and height; whether they are finer
    than 8 bits."""
    if data[:4] == EXR:
        try:
            found = linear_exr(data)
        except PhotographError as error:
            raise MapError(str(error)) from None
        return found, (found.shape[1], found.shape[0]), True
    if data[:4] in TIFF:
        values = pixels_of(data)
        return values, (values.shape[1], values.shape[0]), values.dtype.itemsize > 1
    picture: Image.Image = Image.open(io.BytesIO(data), formats=("PNG",))
    bounds.refuse_picture(picture)
    return bounds.reduced_picture(picture, SIDE), picture.size, picture.mode in DEEP


def _filled(values: NDArray[np.float64], notes: list[str]) -> NDArray[np.float64]:
    """Heights with those that are none put at the lowest there is."""
    there = np.isfinite(values)
    if not there.any():
        raise MapError("it holds no number at all; save it with heights")
    if there.all():
        return values
    share = 1.0 - float(there.mean())
    if share > HOLES_TOLD:
        notes.append(f"{100.0 * share:.1f} % of it holds no height and lies at its lowest now")
    return np.where(there, values, values[there].min())


def embedded(data: bytes) -> Heights:
    """A picture file as the text a sky document keeps: its lowest value black, its highest white.
    Raises MapError."""
    if not data:
        raise MapError("the file is empty; give a grey PNG, TIFF or OpenEXR")
    if len(data) > BYTES_MOST:
        raise MapError(f"the file is larger than {BYTES_MOST // 2**20} MB; give a smaller one")
    notes: list[str] = []
    try:
        with bounds.turn:
            values, whole, deep = _values(data)
            plain = _one_channel(values)
            small = bounds.reduced(plain, SIDE).astype(np.float64)
    except (MapError, bounds.TooMuch) as error:
        raise MapError(str(error)) from None
    except Exception:
        raise MapError("it cannot be read as a picture; give a grey PNG, TIFF or "
                       "OpenEXR") from None
    small = _filled(small, notes)
    low, high = float(small.min()), float(small.max())
    if high - low <= LEAST_CONTRAST * max(abs(low), abs(high), 1e-12):
        raise MapError("it is of one height all over; give one with dark and light parts")
    share = (small - low) / (high - low)
    side = max(share.shape)
    if side > SIDE:
        picture = Image.fromarray(share.astype(np.float32), "F")
        share = np.clip(np.asarray(picture.resize(
            (max(round(share.shape[1] * SIDE / side), 2), max(round(share.shape[0] * SIDE / side),
                                                              2)),
            Image.Resampling.LANCZOS), dtype=np.float64), 0.0, 1.0)
        notes.append(f"{whole[0]:,} × {whole[1]:,} pixels were brought to {share.shape[1]} × "
                     f"{share.shape[0]}")
    if not deep:
        notes.append("it has 8 bits, so slopes may show steps; 16 bits are smooth")
    buffer = io.BytesIO()
    Image.fromarray(np.round(65535.0 * share).astype(np.uint16)).save(buffer, "PNG", optimize=True)
    return Heights(MAP_PREFIX + base64.b64encode(buffer.getvalue()).decode(), notes)
