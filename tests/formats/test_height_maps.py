"""Height maps in: every kind of file to the land it stands for, and refusals in words."""

from __future__ import annotations

import io
import struct
import zlib
from pathlib import Path

import numpy as np
import OpenEXR
import pytest
import tifffile
from PIL import Image

from dovrek.commands.shared import BadInput, with_maps
from dovrek.core.land.forms import heights_of
from dovrek.core.land.map_heights import SIDE
from dovrek.formats import bounds
from dovrek.formats.cover_maps import MapError
from dovrek.formats.height_maps import embedded
from dovrek.sky.reading import sky_from_text, text_to_keep
from dovrek.sky.relief import Relief
from tests.conftest import sky_of

N = 96


def ramp() -> np.ndarray:
    """Rising to the east, a bump in the north-east: (rows from the north, columns to the east)."""
    rows, columns = np.mgrid[0:N, 0:N] / (N - 1)
    return 0.7 * columns + 0.3 * np.exp(-((rows - 0.25) ** 2 + (columns - 0.7) ** 2) / 0.01)


def png(values: np.ndarray) -> bytes:
    file = io.BytesIO()
    Image.fromarray(values).save(file, "PNG")
    return file.getvalue()


def tiff(values: np.ndarray) -> bytes:
    file = io.BytesIO()
    tifffile.imwrite(file, values)
    return file.getvalue()


def exr(values: np.ndarray, folder: Path) -> bytes:
    path = folder / "h.exr"
    with OpenEXR.File({}, {"Y": values.astype(np.float32)}) as out:
        out.write(str(path))
    return path.read_bytes()


def given(kind: str, folder: Path) -> bytes:
    values = ramp()
    if kind == "png-8":
        return png(np.round(255 * values).astype(np.uint8))
    if kind == "png-16":
        return png(np.round(65535 * values).astype(np.uint16))
    if kind == "colour":
        plain = np.zeros((N, N, 3), np.uint8)
        plain[..., 1] = np.round(255 * values)
        return png(plain)
    if kind == "tiff":
        return tiff((3000.0 * values + 120.0).astype(np.float32))
    return exr(500.0 * values, folder)


@pytest.mark.parametrize("kind", ["png-8", "png-16", "colour", "tiff", "exr"])
def test_a_map_becomes_the_land_it_shows(kind: str, tmp_path: Path) -> None:
    """North up, black the lowest and white the highest metre, level ground at the border."""
    found = embedded(given(kind, tmp_path))
    relief = Relief(form="map", asset=found.asset, lowest_m=100.0, highest_m=900.0)
    heights = heights_of(relief)
    n = len(heights) - 1
    values = ramp()
    values = (values - values.min()) / np.ptp(values)
    for east, north in ((0.3, 0.4), (0.5, 0.5), (0.7, 0.75), (0.8, 0.2)):
        # Pixels are areas: their middles lie half a pixel in.
        row, column = (1.0 - north) * N - 0.5, east * N - 0.5
        wanted = 100.0 + 800.0 * values[round(row), round(column)]
        assert heights[round(east * n), round(north * n)] == pytest.approx(wanted, abs=25.0)
    assert max(abs(heights[side]).max() for side in (0, -1)) < 1.0
    assert ("8 bits" in " ".join(found.notes)) == (kind in ("png-8", "colour"))


def test_a_map_that_is_not_square_lies_in_the_middle() -> None:
    wide = np.tile(np.linspace(0.2, 1.0, 200), (50, 1))
    heights = heights_of(Relief(form="map", highest_m=100.0, asset=embedded(
        tiff(wide.astype(np.float32))).asset))
    n = len(heights) - 1
    assert heights[n // 2, n // 2] > 30.0
    assert heights[n // 2, int(0.3 * n)] < 1.0 and heights[n // 2, int(0.7 * n)] < 1.0


def test_a_large_map_is_made_smaller_and_kept() -> None:
    rng = np.random.default_rng(1)
    found = embedded(png((65535 * rng.random((1500, 1500))).astype(np.uint16)))
    assert any(f"{SIDE} × {SIDE}" in note for note in found.notes)
    sky = sky_of(relief={"form": "map", "asset": found.asset})
    again = sky_from_text(text_to_keep(sky))  # the worst there is, noise, still fits in a sky
    assert np.array_equal(heights_of(again.relief), heights_of(sky.relief))


def test_holes_lie_at_the_lowest() -> None:
    values = (100.0 * ramp()).astype(np.float32)
    values[40:48, 40:48] = np.nan
    found = embedded(tiff(values))
    assert any("holds no height" in note for note in found.notes)
    assert np.isfinite(heights_of(Relief(form="map", asset=found.asset))).all()


@pytest.mark.parametrize(("data", "part"), [
    (b"", "empty"), (b"no picture", "cannot be read"),
    (png(np.full((20, 20), 7, np.uint8)), "one height"),
    (tiff(np.full((20, 20), np.nan, np.float32)), "no number"),
    (png(np.zeros((1, 1), np.uint8)), "2 × 2"), (tiff(np.zeros((1, 40), np.uint16)), "2 × 2"),
])
def test_what_is_no_height_map_is_told(data: bytes, part: str) -> None:
    with pytest.raises(MapError, match=part):
        embedded(data)


def test_a_map_of_30_000_pixels_is_refused_before_it_is_decoded() -> None:
    def chunk(kind: bytes, data: bytes) -> bytes:
        return (struct.pack(">I", len(data)) + kind + data
                + struct.pack(">I", zlib.crc32(kind + data)))

    head = struct.pack(">IIBBBBB", 30_000, 30_000, 16, 0, 0, 0, 0)
    claimed = (b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0"))
               + chunk(b"IEND", b""))
    with pytest.raises(MapError, match="decoded"):
        embedded(claimed)


def test_a_path_beside_the_sky_is_taken_in(tmp_path: Path) -> None:
    (tmp_path / "hills.png").write_bytes(given("png-16", tmp_path))
    sky = with_maps(sky_of(relief={"form": "map", "asset": "hills.png"}), tmp_path)
    assert sky.relief.stands and heights_of(sky.relief).max() > 300.0
    with pytest.raises(BadInput, match=r"relief.asset: gone.png"):
        with_maps(sky_of(relief={"form": "map", "asset": "gone.png"}), tmp_path)


@pytest.mark.parametrize("shape", [(400_000, 24), (24, 400_000), (3000, 3000, 3)])
def test_a_narrow_picture_is_reduced_along_its_length(shape: tuple[int, ...]) -> None:
    """What is read of one stays small whatever its shape: a long strip once took gigabytes."""
    values = np.arange(int(np.prod(shape)), dtype=np.uint32).reshape(shape).astype(np.uint16)
    found = bounds.reduced(values, 640)
    assert max(found.shape[:2]) < 1280 and found.dtype == np.float32
    assert found.mean() == pytest.approx(values.mean(dtype=np.float64), rel=0.02)
    if len(shape) == 2:
        picture = bounds.reduced_picture(Image.fromarray(values), 640)
        assert np.allclose(picture, found)
