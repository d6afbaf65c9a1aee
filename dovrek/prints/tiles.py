"""Tiles of a print: computed on workers, kept on disk so that a print can go on later."""

from __future__ import annotations

import threading
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sun_place import Place, sun_place
from dovrek.core.colour.film import develop
from dovrek.core.picture.probe import light_of
from dovrek.core.picture.render import Metered, Tile, march_tile, tiles_of
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.passes import PASSES
from dovrek.core.transport.sample import OUT
from dovrek.formats.dome_set import DomeNumbers, dome_numbers
from dovrek.formats.whole_file import whole_file
from dovrek.sky.reading import sky_from_text

BAND_W, BAND_H = 480, 128

_studio: Studio | None = None
_lock = threading.Lock()


def print_tiles(width: int, height: int) -> list[Tile]:
    """Tiles large enough to be worth storing, small enough to cancel and resume well."""
    return tiles_of(width, height, BAND_W, BAND_H)


def scene_of(document: str, wish: Wish) -> tuple[Prepared, Metered]:
    """The scene of a print, built once a process and kept."""
    global _studio
    with _lock:
        if _studio is None:
            _studio = Studio(2)
        return _studio.prepare(sky_from_text(document), wish, Cancel())


def compute_tile(document: str, wish: Wish, tile: Tile) -> NDArray[np.float32]:
    """(rows, columns, 5) mean light of a tile, and behind it the sums of its passes if they are
    wished for. Runs on a dask worker; pure."""
    prepared, _ = scene_of(document, wish)
    sky = sky_from_text(document)
    size, settings = (wish.width, wish.height), wish.settings
    if not wish.passes:
        light, _ = march_tile(prepared, wish.lens(sky), wish.marching(), size, tile, settings,
                              Cancel())
        return light
    sums = np.zeros((tile.y1 - tile.y0, tile.x1 - tile.x0, PASSES), dtype=np.float32)
    light, _ = march_tile(prepared, wish.lens(sky), wish.marching(), size, tile,
                          replace(settings, spread=0.0), Cancel(), passes=sums)
    return np.concatenate([light, sums], axis=2)


def depth_of(wish: Wish) -> int:
    """Numbers a pixel of a tile has."""
    return OUT + PASSES if wish.passes else OUT


def numbers_of(document: str, wish: Wish) -> tuple[Place, Metered, dict[str, Any]]:
    """What a print's film and sidecar need: the sun, the exposure, the illuminances."""
    prepared, metered = scene_of(document, wish)
    sky = sky_from_text(document)
    with _lock:
        assert _studio is not None
        light = light_of(sky, _studio.preparer, prepared, Cancel())
    return sun_place(sky), metered, light


def compute_frame(document: str, wish: Wish) -> NDArray[np.uint8]:
    """(h, w, 3) developed codes of a frame of the clip. Runs on a dask worker; pure."""
    global _studio
    with _lock:
        if _studio is None:
            _studio = Studio(2)
        rendered = _studio.render(sky_from_text(document), wish)
    return np.asarray(develop(rendered.light, *rendered.metered), dtype=np.uint8)


def dome_numbers_of(document: str, wish: Wish) -> DomeNumbers:
    """What a dome's files need beside its picture."""
    prepared, metered = scene_of(document, wish)
    with _lock:
        assert _studio is not None
        return dome_numbers(sky_from_text(document), prepared, metered, _studio, Cancel())


def tile_path(folder: Path, tile: Tile) -> Path:
    return folder / f"tile-{tile.y0:05d}-{tile.x0:05d}.npy"


def store_part(path: Path, values: NDArray[Any]) -> None:
    """Keep a tile or a frame, whole or not at all. Raises OSError."""
    with whole_file(path) as part, part.open("wb") as file:
        np.save(file, values)


def stored_frame(path: Path, size: tuple[int, int]) -> NDArray[np.uint8] | None:
    """A kept frame of a film, or None when it is missing or damaged."""
    try:
        codes: Any = np.load(path, mmap_mode="r")
    except (OSError, ValueError, EOFError):
        return None
    return codes if codes.shape == (size[1], size[0], 3) and codes.dtype == np.uint8 else None


def stored_tile(folder: Path, tile: Tile, depth: int = OUT) -> NDArray[np.float32] | None:
    """A kept tile of `depth` numbers a pixel, or None when it is missing or damaged."""
    path = tile_path(folder, tile)
    try:
        light: Any = np.load(path)
    except (OSError, ValueError, EOFError):
        return None
    wanted = (tile.y1 - tile.y0, tile.x1 - tile.x0, depth)
    return light if light.shape == wanted and light.dtype == np.float32 else None
