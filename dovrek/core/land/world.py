"""A map of the world: which places are land."""

from __future__ import annotations

import base64
import binascii
import io
import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.compile.kernels import inner
from dovrek.core.run.stage import Tools, stage
from dovrek.sky.ground import MAP_BEGINS, Ground

WIDEST = 2048  # pixels of a kept map

World = NDArray[np.uint8]


def no_world() -> World:
    """Of a ground without a map."""
    return np.zeros((1, 1), np.uint8)


@lru_cache(maxsize=4)
def world_of(asset: str) -> World | None:
    """(h, 2h) greys of a map as a document keeps it, row 0 in the north, column 0 at 180° west;
    None when it is none."""
    if not asset.startswith(MAP_BEGINS):
        return None
    try:
        picture = Image.open(io.BytesIO(base64.b64decode(asset[len(MAP_BEGINS):], validate=True)),
                             formats=("PNG",))
        wide, high = picture.size
        if wide != 2 * high or not 8 <= wide <= WIDEST:
            return None
        found = np.array(picture.convert("L"))
    except (OSError, ValueError, SyntaxError, binascii.Error):
        return None
    return found


def land_share_of(ground: Ground) -> float:
    """Share of the world that is land by its map; all of it without one."""
    world = world_of(ground.map) if ground.mapped else None
    if world is None:
        return 1.0
    rows = len(world)
    weight = np.cos(math.pi * ((np.arange(rows) + 0.5) / rows - 0.5))
    return float((world.mean(axis=1) / 255.0) @ weight / weight.sum())


@stage("world")
def world_map(tools: Tools, asset: str) -> World:
    """The map's greys, or none."""
    found = world_of(asset)
    return no_world() if found is None else found


@inner
def land_grey(scene, x, y):
    """Grey of the world's map, 0 … 1, at a place: metres of arc from the camera's foot."""
    ground, world = scene.ground, scene.world
    rows, columns = world.shape
    way = math.sqrt(x * x + y * y)
    arc = way / scene.radius
    sin_0, cos_0 = math.sin(ground.latitude), math.cos(ground.latitude)
    east, north = (x / way, y / way) if way > 1e-6 else (0.0, 1.0)
    up = sin_0 * math.cos(arc) + cos_0 * math.sin(arc) * north
    latitude = math.asin(min(max(up, -1.0), 1.0))
    longitude = ground.longitude + math.atan2(
        east * math.sin(arc) * cos_0, math.cos(arc) - sin_0 * up)
    a = (0.5 - latitude / math.pi) * rows - 0.5
    b = (longitude / (2.0 * math.pi) + 0.5) * columns - 0.5
    i, j = math.floor(a), math.floor(b)
    u, v = a - i, b - j
    i0, i1 = min(max(i, 0), rows - 1), min(max(i + 1, 0), rows - 1)
    j0 = j % columns
    j1 = (j0 + 1) % columns
    return ((world[i0, j0] * (1.0 - v) + world[i0, j1] * v) * (1.0 - u)
            + (world[i1, j0] * (1.0 - v) + world[i1, j1] * v) * u) / 255.0
