"""What workers compute of a print, part by part. Each is pure and comes back as plain arrays."""

from __future__ import annotations

import threading
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sun_place import Place, sun_place
from dovrek.core.colour.film import develop
from dovrek.core.picture.calming import calm
from dovrek.core.picture.probe import light_of
from dovrek.core.picture.render import Metered, Tile, march_tile
from dovrek.core.picture.studio import Studio, Wish, holed
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.moments import moment_of
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.passes import PASSES
from dovrek.core.transport.sample import OUT
from dovrek.core.volume.voxels import Blocks, Box, box_of, filled_rows
from dovrek.formats.dome_set import DomeNumbers, dome_numbers
from dovrek.sky.reading import sky_from_text
from dovrek.sky.seen import unwashed

SCENES_BYTES = 450 * 2**20  # three layers of towers take 411 MB, of heaps 276

_studio: Studio | None = None
_lock = threading.Lock()


def _studio_here() -> Studio:
    """This process's studio; the lock is held."""
    global _studio
    if _studio is None:
        _studio = Studio(2, most_bytes=SCENES_BYTES)
    return _studio


def scene_of(document: str, wish: Wish) -> tuple[Prepared, Metered]:
    """The scene of a print, built once a process and kept."""
    with _lock:
        return _studio_here().prepare(sky_from_text(document), wish, Cancel())


def compute_tile(document: str, wish: Wish, tile: Tile) -> NDArray[np.float32]:
    """(rows, columns, 5) mean light of a tile, and behind it the sums of its passes if they are
    wished for."""
    prepared, _ = scene_of(document, wish)
    sky = sky_from_text(document)
    size, settings = (wish.width, wish.height), wish.settings
    if not wish.passes:
        light, _ = march_tile(prepared, wish.lens(sky), holed(wish, sky).marching(), size, tile,
                              settings, Cancel())
        return light
    sums = np.zeros((tile.y1 - tile.y0, tile.x1 - tile.x0, PASSES), dtype=np.float32)
    light, _ = march_tile(prepared, wish.lens(sky), holed(wish, sky).marching(), size, tile,
                          replace(settings, spread=0.0), Cancel(), passes=sums)
    return np.concatenate([light, sums], axis=2)


def compute_calm(rows: NDArray[np.float32], above: int, below: int, joined: bool
                 ) -> NDArray[np.float32]:
    """A band's (n, w, CALMED) light and alpha with their grain spread, from its rows and those
    `above` and `below` it that were looked at; `joined`: left and right meet."""
    light = rows.copy()
    calm(light, None, joined)
    return light[above : len(light) - below]


def depth_of(wish: Wish) -> int:
    """Numbers a pixel of a tile has."""
    return OUT + PASSES if wish.passes else OUT


def numbers_of(document: str, wish: Wish) -> tuple[Place, Metered, dict[str, Any]]:
    """What a print's film and sidecar need: the sun, the exposure, the illuminances."""
    prepared, metered = scene_of(document, wish)
    sky = sky_from_text(document)
    with _lock:
        light = light_of(sky, _studio_here().preparer, prepared, Cancel())
    return sun_place(sky), metered, light


def compute_frame(document: str, wish: Wish) -> NDArray[np.uint8]:
    """(h, w, 3) developed codes of a frame of the clip."""
    light, metered = compute_light(document, wish)
    return np.asarray(develop(light, *metered), dtype=np.uint8)


def compute_light(document: str, wish: Wish) -> tuple[NDArray[np.float32], Metered]:
    """(h, w, 5) light of a frame of the clip, and how it is exposed."""
    with _lock:
        rendered = _studio_here().render(sky_from_text(document), wish)
    return rendered.light, rendered.metered


def dome_numbers_of(document: str, wish: Wish) -> DomeNumbers:
    """What a dome's files need beside its picture."""
    prepared, metered = scene_of(document, wish)
    with _lock:
        return dome_numbers(sky_from_text(document), prepared, metered, _studio_here(), Cancel())


def _bodies(document: str, clip_s: float | None) -> list[LayerBody]:
    """Of the still, or as they are at a second of the clip."""
    sky, moved = unwashed(sky_from_text(document)), None
    if clip_s is not None:
        now = moment_of(sky, clip_s)
        sky, moved = now.sky, now.moved
    with _lock:
        return _studio_here().preparer.bodies(sky, FINE, Cancel(), moved)


def boxes_of(document: str, clip_s: float | None, voxel_m: float, extent_m: float,
             rain: bool) -> dict[str, Box]:
    """The box of each layer's volume."""
    return {body.layer.id: box_of(body, voxel_m, extent_m, rain=rain)
            for body in _bodies(document, clip_s)}


def compute_rows(document: str, clip_s: float | None, layer: str, box: Box,
                 rows: tuple[int, int], rain: bool) -> Blocks:
    """The blocks with cloud of some rows of towers of a layer's box."""
    body = next(b for b in _bodies(document, clip_s) if b.layer.id == layer)
    return filled_rows(body, box, rows, Cancel(), rain)


