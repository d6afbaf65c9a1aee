"""Parts of a print on disk, so that it can go on later, and the rows of a picture from them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.calming import CALMED
from dovrek.core.picture.render import Tile, tiles_of
from dovrek.core.transport.passes import passes_of
from dovrek.core.transport.sample import OUT
from dovrek.core.volume.voxels import Blocks
from dovrek.formats.bands import Band
from dovrek.formats.whole_file import whole_file

BAND_W, BAND_H = 480, 128


def print_tiles(width: int, height: int) -> list[Tile]:
    """Tiles large enough to be worth storing, small enough to cancel and resume well."""
    return tiles_of(width, height, BAND_W, BAND_H)


def tile_path(folder: Path, tile: Tile) -> Path:
    return folder / f"tile-{tile.y0:05d}-{tile.x0:05d}.npy"


def band_path(folder: Path, top: int) -> Path:
    return folder / f"band-{top:05d}.npy"


def store_part(path: Path, values: NDArray[Any]) -> None:
    """Keep a part, whole or not at all. Raises OSError."""
    with whole_file(path) as part, part.open("wb") as file:
        np.save(file, values)


def store_blocks(path: Path, blocks: Blocks) -> None:
    """Keep blocks of a volume, whole or not at all. Raises OSError."""
    with whole_file(path) as part, part.open("wb") as file:
        np.savez(file, places=blocks.places, values=blocks.values)


def stored_blocks(path: Path) -> Blocks | None:
    """Kept blocks, or None when they are missing or damaged."""
    try:
        with np.load(path) as found:
            return Blocks(found["places"], found["values"])
    except (OSError, ValueError, EOFError, KeyError):
        return None


def _stored(path: Path, shape: tuple[int, ...], kind: Any) -> NDArray[Any] | None:
    """A kept array of a shape and kind, not yet read into memory; None when it is missing or
    damaged."""
    try:
        found: Any = np.load(path, mmap_mode="r")
    except (OSError, ValueError, EOFError):
        return None
    return found if found.shape == shape and found.dtype == kind else None


def stored_frame(path: Path, size: tuple[int, int]) -> NDArray[np.uint8] | None:
    """A kept frame of a film, or None."""
    return _stored(path, (size[1], size[0], 3), np.uint8)


def stored_tile(folder: Path, tile: Tile, depth: int = OUT) -> NDArray[np.float32] | None:
    """A kept tile of `depth` numbers a pixel, or None."""
    return _stored(tile_path(folder, tile), (tile.y1 - tile.y0, tile.x1 - tile.x0, depth),
                   np.float32)


class StoredPicture:
    """A picture of tiles on disk; only the rows asked for come into memory."""

    def __init__(self, folder: Path, width: int, height: int, depth: int) -> None:
        self.folder, self.width, self.height, self.depth = folder, width, height, depth
        self.under: Callable[[NDArray[np.float32], int], NDArray[np.float32]] = (
            lambda light, top: light)  # lays what is behind under rows from `top` on
        self.tops = range(0, height, BAND_H)
        self.tiles = print_tiles(width, height)

    def missing_tiles(self) -> list[Tile]:
        return [t for t in self.tiles if stored_tile(self.folder, t, self.depth) is None]

    def missing_bands(self) -> list[int]:
        """First rows of the bands that are not calmed yet."""
        return [top for top in self.tops if self._calmed(top) is None]

    def _calmed(self, top: int) -> NDArray[np.float32] | None:
        rows = min(BAND_H, self.height - top)
        return _stored(band_path(self.folder, top), (rows, self.width, CALMED), np.float32)

    def rows(self, first: int, last: int) -> NDArray[np.float32]:
        """(last − first, w, depth) as the tiles have it. Raises OSError for a tile that is gone."""
        out = np.empty((last - first, self.width, self.depth), dtype=np.float32)
        for tile in self.tiles:
            y0, y1 = max(tile.y0, first), min(tile.y1, last)
            if y0 >= y1:
                continue
            held = stored_tile(self.folder, tile, self.depth)
            if held is None:
                raise FileNotFoundError(f"{tile_path(self.folder, tile).name} is gone")
            out[y0 - first : y1 - first, tile.x0 : tile.x1] = held[y0 - tile.y0 : y1 - tile.y0]
        return out

    def bands(self, samples: int = 1, layers: int = 0) -> Iterator[Band]:
        """All bands from the top on: calmed where that is stored, with the passes of `layers`
        that `samples` rays a pixel summed up, if tiles hold them."""
        for top in self.tops:
            rows = self.rows(top, min(top + BAND_H, self.height))
            calmed = self._calmed(top)
            if calmed is not None:
                rows[..., :CALMED] = calmed
            parts = passes_of(rows[..., OUT:], samples, layers) if self.depth > OUT else None
            yield Band(self.under(rows[..., :OUT], top), top, parts)
