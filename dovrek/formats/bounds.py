"""What a picture that is sent will take decoded: known from its head, and bounded before.

A file of some kilobytes can stand for gigabytes: plain areas packed well, tiles far larger than
the picture, hundreds of channels, strips that unpack to more than they say. One picture is decoded
at a time; with what is read and made of it, a picture takes at most about 300 MB.
"""

from __future__ import annotations

import lzma
import threading
import zlib
from typing import Any

import numpy as np
import tifffile
from PIL import Image

DECODED_MOST = 200 * 2**20
SEGMENT_MOST = 64 * 2**20  # one strip or tile of a TIFF
SEGMENTS_MOST = 200_000
CHANNELS_MOST = 8
READ = ("JPEG", "PNG", "TIFF")  # of what Pillow knows
# Bytes a pixel where they are less than the four of colours, which palettes become.
MODE_BYTES = {"L": 1, "I;16": 2, "I;16B": 2}
DEFLATE, LZMA = (8, 32946, 50013), 34925  # TIFF 6.0, and Adobe's technical notes

BAND_ROWS = 256  # of a picture that are looked at together

turn = threading.Lock()  # held while a picture is decoded


class TooMuch(Exception):
    """A picture that would take too much memory; says what and how to mend it."""


def refuse_above(count: int, what: str) -> None:
    """Raises TooMuch when `count` decoded bytes are more than a picture may take."""
    if count > DECODED_MOST:
        raise TooMuch(f"{what} would take {count / 1e6:,.0f} MB decoded; make it smaller, "
                      f"{DECODED_MOST / 1e6:.0f} MB at most")


def refuse_picture(picture: Image.Image) -> None:
    """Bound what Pillow will decode of an opened picture. Raises TooMuch."""
    pixels = picture.width * picture.height
    if picture.format == "JPEG" and (picture.info.get("progressive")
                                     or picture.info.get("progression")):
        # All coefficients of a progressive one are held, two bytes each (ITU T.81, annex G).
        refuse_above(2 * pixels * len(picture.getbands()), "the progressive JPEG")
    each = MODE_BYTES.get(picture.mode, 4)
    if picture.format != "JPEG":  # those are decoded at a fraction of their size
        refuse_above(pixels * each, f"the picture of {picture.width:,} × {picture.height:,} pixels")


def refuse_tiff(page: Any, data: bytes) -> None:
    """Bound what a TIFF page's segments unpack to. Raises TooMuch."""
    depth = max((page.bitspersample or 8) // 8, 1)
    samples = max(int(page.samplesperpixel), 1)
    if samples > CHANNELS_MOST or int(page.imagedepth) > 1:
        raise TooMuch(f"the TIFF has {samples} samples a pixel; save it with 1, 3 or 4")
    refuse_above(int(page.imagewidth) * int(page.imagelength) * samples * depth, "the TIFF")
    if page.is_tiled:
        wide, high = int(page.tilewidth), int(page.tilelength)
    else:
        wide = int(page.imagewidth)
        high = min(int(page.rowsperstrip or page.imagelength), int(page.imagelength))
    segment = wide * high * samples * depth
    if segment > SEGMENT_MOST and (page.is_tiled or segment > DECODED_MOST):
        raise TooMuch(f"a tile of the TIFF would take {segment / 1e6:,.0f} MB; save it in strips")
    if len(page.dataoffsets) > SEGMENTS_MOST:
        raise TooMuch(f"the TIFF is in {len(page.dataoffsets):,} pieces; save it in fewer")
    code = int(page.compression)
    if code not in (*DEFLATE, LZMA):
        return
    for at, count in zip(page.dataoffsets, page.databytecounts, strict=False):
        piece = data[at : at + count]
        if len(_unpacked(piece, code, segment + 1)) > segment:
            raise TooMuch("a strip of the TIFF unpacks to more than it says; save it anew")


def _unpacked(piece: bytes, code: int, most: int) -> bytes:
    try:
        if code == LZMA:
            return lzma.LZMADecompressor().decompress(piece, most)
        return zlib.decompressobj().decompress(piece, most)
    except (zlib.error, lzma.LZMAError):
        return b""  # the reader says what is wrong with it


def tiff_page(file: tifffile.TiffFile, data: bytes) -> Any:
    """The first picture of a TIFF, bounded. Raises TooMuch."""
    page: Any = file.pages[0]
    refuse_tiff(page, data)
    return page


def reduced_picture(picture: Image.Image, side: int) -> np.ndarray:
    """Values of an opened picture made smaller as by `reduced`, a band of rows at a time: no
    second whole one is ever in memory."""
    wide, high = (min(max(1, max(picture.size) // max(side, 1)), n) for n in picture.size)
    plain = picture.mode not in ("P", "CMYK", "LA", "RGBA", "PA", "1")

    def rows(first: int, last: int) -> np.ndarray:
        band = picture.crop((0, first, picture.width, last))
        return np.asarray(band if plain else band.convert("RGB"))

    if wide * high < 2:
        return rows(0, picture.height)
    end = picture.height // high * high
    step = max(BAND_ROWS // high, 1) * high
    return np.concatenate([_means(rows(top, min(top + step, end)), high, wide)
                           for top in range(0, end, step)])


def _means(values: np.ndarray, high: int, wide: int) -> np.ndarray:
    """Means of whole blocks, as float32."""
    h, w = values.shape[0] // high, values.shape[1] // wide
    rest = values.shape[2:]
    whole = values[: h * high, : w * wide].reshape(h, high, w, wide, *rest)
    return np.asarray(whole.mean(axis=(1, 3), dtype=np.float32))


def reduced(values: np.ndarray, side: int) -> np.ndarray:
    """(h, w) or (h, w, c) values made smaller by whole blocks until the longer side is below twice
    `side`: means as float32, a band of rows at a time, so that large ones stay as they came."""
    sizes = values.shape[:2]
    # A narrow one is reduced along its length alone.
    high, wide = (min(max(1, max(sizes) // max(side, 1)), n) for n in sizes)
    if wide * high < 2:
        return values
    step = max(BAND_ROWS // high, 1) * high
    end = sizes[0] // high * high
    return np.concatenate([_means(values[top : min(top + step, end)], high, wide)
                           for top in range(0, end, step)])
