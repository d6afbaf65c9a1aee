"""Reference photographs: JPEG, PNG, TIFF, Radiance HDR and OpenEXR, upright, sRGB and bounded."""

from __future__ import annotations

import io
import math
import re
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import OpenEXR
import tifffile
from numpy.typing import NDArray
from PIL import Image, ImageCms, ImageOps

from dovrek.core.colour.film import develop, meter
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.formats import bounds

BYTES_MOST = 60 * 1024 * 1024
PIXELS_MOST = 90_000_000
SIDE = 1600  # what is kept
DRAWING_SIDE = 1920
DAYLIGHT_K = 6500.0
TOO_MANY = ("the picture has too many pixels ({0} × {1}); make it smaller than 90 megapixels, "
            "for example 12,000 × 7,500")
# All that reads pictures here refuses large ones itself, before their pixels and in our words.
Image.MAX_IMAGE_PIXELS = None
UNREADABLE = "it cannot be read as a picture; give a JPEG, PNG, TIFF, HDR or OpenEXR file"


T = TypeVar("T")


class PhotographError(Exception):
    """A file that cannot be a reference; says why and what to do."""


@dataclass(frozen=True)
class Photograph:
    """A reference as kept: sRGB pixels, and what its file says of the lens."""

    pixels: NDArray[np.uint8]  # (h, w, 3)
    lens_mm: float | None = None  # 36 mm wide equivalent
    note: str = ""

    def png(self) -> bytes:
        buffer = io.BytesIO()
        Image.fromarray(self.pixels).save(buffer, "PNG", compress_level=4)
        return buffer.getvalue()


def read_reference(data: bytes) -> Photograph:
    """A photograph from a file's bytes. Raises PhotographError."""
    return _bounded(data, _read)


def linear_of(data: bytes) -> NDArray[np.float32] | None:
    """Linear RGB of an OpenEXR or Radiance file; None for files of another kind. Raises
    PhotographError."""
    def read(data: bytes) -> NDArray[np.float32] | None:
        if data[:4] == b"\x76\x2f\x31\x01":
            found = linear_exr(data)
        elif data[:2] == b"#?":
            found = _hdr(data)
        else:
            return None
        _refuse_large(found.shape[1], found.shape[0])
        return np.maximum(np.nan_to_num(found, posinf=6e4, neginf=0.0), np.float32(0.0))

    return _bounded(data, read)


def _bounded(data: bytes, read: Callable[[bytes], T]) -> T:
    """What is read of a file within bounds, one at a time. Raises PhotographError."""
    if not data:
        raise PhotographError("the file is empty; give a JPEG, PNG, TIFF, HDR or OpenEXR file")
    if len(data) > BYTES_MOST:
        raise PhotographError(f"the file is larger than {BYTES_MOST // 2**20} MB; "
                              "give a smaller one")
    try:
        with bounds.turn:
            return read(data)
    except PhotographError:
        raise
    except bounds.TooMuch as error:
        raise PhotographError(str(error)) from None
    except Exception:
        raise PhotographError(UNREADABLE) from None


def _read(data: bytes) -> Photograph:
    if data[:4] == b"\x76\x2f\x31\x01":
        return _from_linear(linear_exr(data), "OpenEXR, developed here")
    if data[:2] == b"#?":
        return _from_linear(_hdr(data), "Radiance HDR, developed here")
    if data[:4] in (b"II*\0", b"MM\0*") and (deep := _deep_tiff(data)) is not None:
        return deep
    return _from_picture(data)


def read_drawing(data: bytes) -> bytes:
    """A drawing to lay over the picture, as a PNG with alpha of at most DRAWING_SIDE pixels a
    side, from a file within a reference's bounds. Raises PhotographError."""
    plain = read_reference(data)
    try:
        with bounds.turn:
            opened = Image.open(io.BytesIO(data), formats=bounds.READ)
            picture = ImageOps.exif_transpose(_less(opened, DRAWING_SIDE)).convert("RGBA")
    except (OSError, ValueError):  # linear and deep files have no alpha to keep
        picture = Image.fromarray(plain.pixels).convert("RGBA")
    picture.thumbnail((DRAWING_SIDE, DRAWING_SIDE), Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    picture.save(buffer, "PNG", compress_level=4)
    return buffer.getvalue()


def _refuse_large(width: int, height: int) -> None:
    if width * height > PIXELS_MOST:
        raise PhotographError(TOO_MANY.format(f"{width:,}", f"{height:,}"))
    if min(width, height) < 16:
        raise PhotographError("the picture is smaller than 16 × 16 pixels; give a larger one")


def _from_picture(data: bytes) -> Photograph:
    """JPEG, PNG, plain TIFF: turned upright, its colour profile or inks made sRGB."""
    picture: Image.Image = Image.open(io.BytesIO(data), formats=bounds.READ)
    _refuse_large(*picture.size)
    bounds.refuse_picture(picture)
    lens = _lens_of(picture)
    profile, notes = picture.info.get("icc_profile"), []
    if picture.format == "JPEG":
        picture.draft("RGB", (2 * SIDE, 2 * SIDE))  # decodes no more than is kept
    upright = ImageOps.exif_transpose
    if not picture.mode.startswith(("I", "F")):
        picture = upright(_less(picture, SIDE))
    else:
        deep = np.asarray(picture)
        values = bounds.reduced(deep, SIDE).astype(np.float64)
        top = 65535.0 if deep.max() > 255 else 255.0
        picture = upright(Image.fromarray(np.clip(values / top * 255.0, 0, 255).astype(np.uint8)))
        notes.append("16 bit made 8")
    picture = _small(picture)
    if profile and picture.mode in ("RGB", "CMYK", "L"):
        try:
            picture = ImageCms.profileToProfile(
                picture, ImageCms.ImageCmsProfile(io.BytesIO(profile)),
                ImageCms.createProfile("sRGB"), outputMode="RGB") or picture
        except ImageCms.PyCMSError:
            notes.append("its colour profile could not be read")
    if picture.mode in ("RGBA", "LA", "PA", "P"):
        picture = picture.convert("RGBA")
        ground = Image.new("RGBA", picture.size, (128, 128, 128, 255))
        picture = Image.alpha_composite(ground, picture)
    if picture.mode == "CMYK":
        notes.append("inks made sRGB without a profile")
    if picture.mode == "L":
        notes.append("grey: colours cannot be compared")
    return Photograph(np.asarray(picture.convert("RGB")), lens, "; ".join(notes))


def _less(picture: Image.Image, side: int) -> Image.Image:
    """A picture made smaller by whole blocks until its longer side is below twice `side`, before
    anything else is made of it."""
    block = max(picture.size) // side
    if block < 2 or picture.mode in ("P", "PA", "1"):
        return picture
    return picture.reduce(block)


def _small(picture: Image.Image) -> Image.Image:
    if max(picture.size) > SIDE:
        picture = picture.copy()
        picture.thumbnail((SIDE, SIDE), Image.Resampling.LANCZOS
                          if picture.mode not in ("P", "PA") else Image.Resampling.NEAREST)
    return picture


def _lens_of(picture: Image.Image) -> float | None:
    """36 mm equivalent of the lens in EXIF (tag 41989; EXIF 2.3), if the file has it."""
    try:
        lens = float(picture.getexif().get_ifd(0x8769).get(41989) or 0.0)
    except (TypeError, ValueError, KeyError):
        return None
    return min(max(lens, 8.0), 800.0) if lens > 0.0 else None


def _deep_tiff(data: bytes) -> Photograph | None:
    """A TIFF of 16 bit or floats; None for what the plain reader does."""
    with tifffile.TiffFile(io.BytesIO(data)) as file:
        page = bounds.tiff_page(file, data)
        _refuse_large(page.imagewidth, page.imagelength)
        if page.dtype is None or page.dtype == np.uint8 or page.photometric == 5:
            return None
        values = page.asarray()
    if values.dtype.kind != "f":
        top = float(np.iinfo(values.dtype).max)
        values = bounds.reduced(values, SIDE) / top
    values = values[..., None] if values.ndim == 2 else values
    rgb = np.repeat(values[..., :1], 3, axis=2) if values.shape[2] < 3 else values[..., :3]
    if page.dtype.kind == "f":
        return _from_linear(rgb, "TIFF of floats, taken as linear")
    picture = _small(Image.fromarray(np.round(255.0 * np.clip(rgb, 0.0, 1.0)).astype(np.uint8)))
    return Photograph(np.asarray(picture), None, "16 bit made 8")


def _stride(width: int, height: int) -> int:
    return max(1, math.ceil(max(width, height) / SIDE))


def _from_linear(rgb: NDArray[Any], note: str) -> Photograph:
    """Scene-linear Rec. 709 light, metered and developed by our film (relative units)."""
    _refuse_large(rgb.shape[1], rgb.shape[0])
    stride = _stride(rgb.shape[1], rgb.shape[0])
    values = np.nan_to_num(rgb[::stride, ::stride].astype(np.float64), posinf=6e4, neginf=0.0)
    xyz = (np.maximum(values, 0.0) @ RGB_TO_XYZ.T * 1000.0).astype(np.float32)
    ev = meter(xyz[..., 1].astype(np.float64), np.ones(xyz.shape[:2], dtype=bool))
    return Photograph(np.asarray(develop(xyz, ev, DAYLIGHT_K), dtype=np.uint8), None, note)


def linear_exr(data: bytes) -> NDArray[np.float32]:
    """RGB of an OpenEXR file (grey Y spread to three), every few pixels of a large one."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "reference.exr"
        path.write_bytes(data)
        with OpenEXR.File(str(path), header_only=True) as head:
            window = head.header()["dataWindow"]
            width, height = (int(window[1][k] - window[0][k]) + 1 for k in (0, 1))
            _refuse_large(width, height)
            _refuse_exr(head, data)
        with OpenEXR.File(str(path), separate_channels=True) as file:
            channels = file.channels()
            names = [n for n in ("R", "G", "B") if n in channels] or [
                n for n in ("Y",) if n in channels]
            if not names:
                raise PhotographError("the OpenEXR file has no R, G, B or Y channel; export it "
                                      "with one of them")
            stride = _stride(width, height)
            planes = [np.asarray(channels[n].pixels[::stride, ::stride], dtype=np.float32)
                      for n in names]
    while len(planes) < 3:
        planes.append(planes[0])
    return np.stack(planes, axis=2)


CHANNEL_LIST = b"channels\0chlist\0"


def _channel_bytes(data: bytes) -> list[int]:
    """Bytes a pixel of each part of an OpenEXR file, from its header's lists of channels (OpenEXR
    file layout: name, type 1 for half, seven bytes and two samplings each)."""
    found, at = [], data.find(CHANNEL_LIST)
    while at >= 0:
        at += len(CHANNEL_LIST) + 4
        each = 0
        while data[at : at + 1] != b"\0":
            end = data.index(b"\0", at)
            each += 2 if int.from_bytes(data[end + 1 : end + 5], "little") == 1 else 4
            at = end + 17
        found.append(each)
        at = data.find(CHANNEL_LIST, at)
    return found


def _refuse_exr(head: Any, data: bytes) -> None:
    """Bound what the parts and channels of an OpenEXR file take: all are read. Raises TooMuch."""
    taken = 0
    for part, each in zip(head.parts, _channel_bytes(data), strict=False):
        window = part.header["dataWindow"]
        wide, high = (int(window[1][k] - window[0][k]) + 1 for k in (0, 1))
        if "deep" in str(part.header.get("type", "")).lower():
            raise PhotographError("the OpenEXR file is deep; flatten it")
        taken += wide * high * each
        tiles = part.header.get("tiles")
        if tiles is not None and int(tiles.xSize) * int(tiles.ySize) > 4096 * 4096:
            raise PhotographError("the tiles of the OpenEXR file are too large; save it in lines")
    bounds.refuse_above(taken, "the OpenEXR file with all its channels")


def _hdr(data: bytes) -> NDArray[np.float32]:
    """Radiance RGBE, flat or run-length coded, every few pixels of a large one. Source: Ward 1991,
    real pixels."""
    head, _, rest = data.partition(b"\n\n")
    line, _, body = rest.partition(b"\n")
    found = re.fullmatch(rb"-Y (\d+) \+X (\d+)", line.strip())
    if found is None or b"rgbe" not in head:
        raise PhotographError("the HDR file is turned or not in RGBE; save it upright as RGBE")
    height, width = int(found[1]), int(found[2])
    _refuse_large(width, height)
    bounds.refuse_above(4 * width * height, "the HDR file")
    rows = np.zeros((height, width, 4), dtype=np.uint8)
    at = 0
    for y in range(height):
        coded = 8 <= width < 32768 and body[at : at + 2] == b"\2\2"
        if not coded:
            rows[y] = np.frombuffer(body, np.uint8, 4 * width, at).reshape(width, 4)
            at += 4 * width
            continue
        at += 4
        for channel in range(4):
            x = 0
            while x < width:
                count = body[at]
                if count > 128:
                    rows[y, x : x + count - 128, channel] = body[at + 1]
                    x, at = x + count - 128, at + 2
                else:
                    rows[y, x : x + count, channel] = np.frombuffer(body, np.uint8, count, at + 1)
                    x, at = x + count, at + 1 + count
    stride = _stride(width, height)
    rows = rows[::stride, ::stride]
    scale = np.ldexp(1.0, rows[..., 3].astype(int) - 136)
    scale[rows[..., 3] == 0] = 0.0
    return (rows[..., :3] * scale[..., None]).astype(np.float32)
