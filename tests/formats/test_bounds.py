"""Pictures that burst: what they would take decoded is known before, and nothing large is made."""

from __future__ import annotations

import io
import struct
import subprocess
import sys
import zlib
from collections.abc import Callable
from functools import cache
from pathlib import Path

import numpy as np
import OpenEXR
import png as pypng
import pytest
from PIL import Image

from dovrek.formats.bounds import DECODED_MOST, reduced
from tests.conftest import long

PEAK_MB = 300.0  # more than the process had with its packages loaded

READ = """
import resource, sys
from dovrek.formats.references import PhotographError, read_drawing, read_reference
from dovrek.formats.cover_maps import MapError, embedded
data = open(sys.argv[1], "rb").read()
def most():
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
before = most()
said = []
for read in (read_reference, read_drawing, embedded):
    try:
        read(data)
        said.append("taken")
    except (PhotographError, MapError) as error:
        said.append(str(error))
print(round(most() - before), "|".join(said))
"""


def peak_of(path: Path) -> tuple[float, list[str]]:
    """Megabytes a file takes at most in every reader, and what each says."""
    found = subprocess.run([sys.executable, "-c", READ, str(path)], capture_output=True, text=True,
                           timeout=120, check=True).stdout
    taken, _, said = found.strip().partition(" ")
    return float(taken), said.split("|")


def plain_png(width: int, height: int, bits: int, colour: int) -> bytes:
    """A black PNG (ISO/IEC 15948) that packs to almost nothing."""
    def chunk(kind: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + kind + body + struct.pack(
            ">I", zlib.crc32(kind + body))

    row = 1 + (width * bits * {0: 1, 2: 3, 3: 1, 6: 4}[colour] + 7) // 8
    packer, body = zlib.compressobj(9), b""
    for _ in range(height):
        body += packer.compress(bytes(row))
    palette = chunk(b"PLTE", bytes(3)) if colour == 3 else b""
    return (b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(
        ">IIBBBBB", width, height, bits, colour, 0, 0, 0)) + palette
        + chunk(b"IDAT", body + packer.flush()) + chunk(b"IEND", b""))


def tiff(width: int, height: int, tags: dict[int, int], strip: bytes) -> bytes:
    """A TIFF (6.0) of one strip or tile with tags of our choice."""
    known = {256: width, 257: height, 258: 8, 259: 1, 262: 1, 277: 1, **tags}
    offset = 8 + 2 + 12 * (len(known) + 2) + 4
    place, size = (324, 325) if 322 in known else (273, 279)
    known |= {place: offset, size: len(strip)}
    entries = b"".join(struct.pack("<HHII", tag, 4, 1, value)
                       for tag, value in sorted(known.items()))
    return b"II*\0" + struct.pack("<I", 8) + struct.pack("<H", len(known)) + entries + bytes(
        4) + strip


@cache
def deflated() -> bytes:
    return zlib.compress(bytes(150 * 2**20), 9)


def progressive() -> bytes:
    jpeg = io.BytesIO()
    Image.new("RGB", (8400, 8400)).save(jpeg, "JPEG", progressive=True, quality=30)
    return jpeg.getvalue()


BOMBS: dict[str, Callable[[], bytes]] = {
    "a PNG of 89 megapixels.png": lambda: plain_png(9400, 9400, 8, 2),
    "a PNG of deep pixels.png": lambda: plain_png(9400, 9400, 16, 6),
    "a PNG of a palette.png": lambda: plain_png(9400, 9400, 8, 3),
    "a strip that says less.tif": lambda: tiff(64, 64, {259: 8, 278: 64}, deflated()),
    "a huge tile.tif": lambda: tiff(64, 64, {322: 65536, 323: 32768, 259: 8}, deflated()[:9999]),
    "many samples.tif": lambda: tiff(64, 64, {277: 60000, 278: 64, 259: 8}, deflated()[:9999]),
    "a progressive JPEG.jpg": progressive,
    "a HDR.hdr": lambda: b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 9000 +X 9000\n",
}


@pytest.mark.parametrize("name", [
    long(name) if name in ("a PNG of 89 megapixels.png", "a strip that says less.tif",
                           "a PNG of a palette.png") else name for name in BOMBS])
def test_what_bursts_is_refused_before_it_does(tmp_path: Path, name: str) -> None:
    path = tmp_path / name
    path.write_bytes(BOMBS[name]())
    assert path.stat().st_size < 2**20
    taken, said = peak_of(path)
    assert taken < 60, said  # it is not even begun
    assert "MB" in said[0] or "save it" in said[0]


def test_an_exr_of_many_channels_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "many.exr"
    zero = np.zeros((2400, 2400), dtype=np.float16)
    with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION},
                      dict.fromkeys(["R", "G", "B", *(f"more.{k}" for k in range(30))], zero)) as f:
        f.write(str(path))
    taken, said = peak_of(path)
    assert taken < PEAK_MB and "channels" in said[0]


@pytest.mark.parametrize("kind", [long("jpg"), "16.png", "16.tif", long("exr")])
def test_large_honest_pictures_are_taken_within_bounds(tmp_path: Path, kind: str) -> None:
    """A camera's 60 megapixels as JPEG, and what still fits of the others."""
    path = tmp_path / f"large.{kind}"
    rng = np.random.default_rng(3)
    small = (rng.random((60, 90, 3)) * 255).astype(np.uint8)
    big = Image.fromarray(small).resize((9000, 6600) if kind == "jpg" else (2400, 1600))
    if kind == "16.png":
        with path.open("wb") as file:
            pypng.Writer(2400, 1600, greyscale=False, bitdepth=16).write(
                file, (np.asarray(big).astype(np.uint16) * 257).reshape(1600, -1))
    elif kind == "16.tif":
        import tifffile

        tifffile.imwrite(path, np.asarray(big).astype(np.uint16) * 257,
                         compression="zlib", photometric="rgb")
    elif kind == "exr":
        pixels = np.asarray(big).astype(np.float16) / 255
        with OpenEXR.File({"compression": OpenEXR.ZIP_COMPRESSION}, {"RGB": pixels}) as out:
            out.write(str(path))
    else:
        big.save(path, quality=85)
    taken, said = peak_of(path)
    assert said[0] == said[1] == "taken", said
    assert taken < PEAK_MB


def test_blocks_keep_means() -> None:
    """Reduced values are the means of their blocks; an even picture stays even."""
    values = np.arange(64, dtype=np.uint16).reshape(8, 8)
    found = reduced(values, 4)
    assert found.shape == (4, 4) and found[0, 0] == np.mean([0, 1, 8, 9])
    assert reduced(values, 8) is values
    assert DECODED_MOST < PEAK_MB * 2**20
