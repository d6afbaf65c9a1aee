"""Bounds of a layer: how much of it is left at a place, and how its height closes there."""

from __future__ import annotations

import math
from typing import Any

from dovrek.core.compile.arithmetic import smoothstep
from dovrek.core.compile.kernels import inner
from dovrek.sky.keeping import Bounds

NO_BANK, ELLIPSE, BOX = 0, 1, 2
SHAPES = ("none", "ellipse", "box")
BEYOND = 0.25  # of its soft end, how far it reaches past its bounds
SINKS = 0.7  # power of what is left that its top sinks by: a lens, not a cut cake
LOWEST = 0.04


def bounded(p: Any, bounds: Bounds) -> None:
    """Set the bounds in a layer's record."""
    p["bank"] = SHAPES.index(bounds.shape)
    if bounds.shape == "none":
        return
    turn = math.radians(bounds.bearing_deg)
    p["bank_x"], p["bank_y"] = bounds.east_km * 1e3, bounds.north_km * 1e3
    p["bank_sin"], p["bank_cos"] = math.sin(turn), math.cos(turn)
    p["bank_length"], p["bank_width"] = 500.0 * bounds.length_km, 500.0 * bounds.width_km
    p["bank_edge"] = bounds.edge
    # Its top sinks within this width: a ray that trusts heights goes shorter ways there.
    soft = (1.0 + BEYOND) * bounds.edge * min(float(p["bank_length"]), float(p["bank_width"]))
    p["bank_lean"] = 1.0 / math.sqrt(1.0 + (1.5 * float(p["thickness"]) / soft) ** 2)
    p["masked"] = 1.0


@inner
def bank_way(p, x, y):
    """A place's way from the middle over that to the border: 1 on the border."""
    x, y = x - p.bank_x, y - p.bank_y
    a = (x * p.bank_sin + y * p.bank_cos) / p.bank_length
    b = (x * p.bank_cos - y * p.bank_sin) / p.bank_width
    if p.bank == BOX:  # a rounded one: a superellipse (Lamé)
        a, b = a * a, b * b
    return math.sqrt(math.sqrt(a * a + b * b)) if p.bank == BOX else math.sqrt(a * a + b * b)


@inner
def bank_share(p, way):
    """What is left of a layer at a way from the middle: 1 inside, 0 beyond the soft end."""
    return 1.0 - smoothstep(1.0 - p.bank_edge, 1.0 + BEYOND * p.bank_edge, way)


@inner
def bank_clear(p, way):
    """Metres, about, from a place outside to where the bank begins."""
    return 0.8 * (way - 1.0 - BEYOND * p.bank_edge) * min(p.bank_length, p.bank_width)
