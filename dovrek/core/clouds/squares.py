"""How far a heap's distance holds: clouds are looked for square by square of their lattice, so a
place knows those that touch its own square, and none beyond its border."""

from __future__ import annotations

import math

from dovrek.core.clouds.record import HEAPED
from dovrek.core.compile.kernels import inner, kernel

ENDLESS = 1e18
BEYOND_M = 1.0  # past a border, where the next square is looked into


@inner
def _square(field, p, x, y):
    """Where a place lies in its square, metres from the south-west corner, and the square's side;
    nought for one in which no cloud is: how far that is clear is known."""
    size = p.period / p.squares
    u, v = x - math.floor(x / p.period) * p.period, y - math.floor(y / p.period) * p.period
    i, j = min(int(u / size), p.squares - 1), min(int(v / size), p.squares - 1)
    at = p.starts_at + i * p.squares + j
    if field.links[at] == field.links[at + 1]:
        return 0.0, 0.0, 0.0
    return u - i * size, v - j * size, size


@inner
def _out(place, size, d):
    """Distance along a ray until it leaves 0 … size, of which it goes the share `d`."""
    if d > 1e-9:
        return (size - place) / d
    if d < -1e-9:
        return place / -d
    return ENDLESS


@inner
def _way(field, p, x, y, dx, dy):
    u, v, size = _square(field, p, x, y)
    if size <= 0.0:
        return ENDLESS
    return min(_out(u, size, dx), _out(v, size, dy))


@kernel
def known_ahead(field, layer, x, y, dx, dy):
    """Distance (m) along a ray from a place, of which it goes the shares dx and dy east and north,
    up to which the layer's distance is to be trusted."""
    p = field.layers[layer]
    if p.form != HEAPED or p.squares == 0:
        return ENDLESS
    way = _way(field, p, x - p.drift_x, y - p.drift_y, dx, dy)
    if p.fade > 0.0:
        way = min(way, _way(field, p, x - p.fade_x, y - p.fade_y, dx, dy))
    return way


@inner
def _border(field, p, x, y):
    u, v, size = _square(field, p, x, y)
    if size <= 0.0:
        return ENDLESS
    return min(min(u, size - u), min(v, size - v))


@kernel
def known_around(field, layer, x, y):
    """Distance (m) to every side up to which the layer's distance is to be trusted."""
    p = field.layers[layer]
    if p.form != HEAPED or p.squares == 0:
        return ENDLESS
    way = _border(field, p, x - p.drift_x, y - p.drift_y)
    if p.fade > 0.0:
        way = min(way, _border(field, p, x - p.fade_x, y - p.fade_y))
    return way
