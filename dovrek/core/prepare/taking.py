"""Which dealt cloud stands at a place, and the hero that it becomes."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import Any, NamedTuple

import numpy as np

from dovrek.core.clouds.shapes import BOX, ShapeParameters, Shapes, forms_of
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.run.maker import Maker
from dovrek.sky.seen import placed_by_hand

NEAR = 1.25  # of its radius from its axis, up to which a cloud is meant
NARROWEST_M = 150.0  # that a hero may be


class Dealt(NamedTuple):
    """A dealt cloud, as the values of the hero that stands for it."""

    layer_id: str
    values: dict[str, Any]
    apart: float  # of the place from its axis, over its radius


def dealt_at(bodies: Iterable[LayerBody], maker: Maker, x: float, y: float) -> Dealt | None:
    """The dealt cloud of heaped layers whose axis lies nearest to a place, by its own width;
    metres east and north of the site. None where there is none."""
    best: Dealt | None = None
    for body in bodies:
        if body.forms is None or placed_by_hand(body.layer):
            continue
        found = _closest_of(body, maker.make(body.forms), body.forms.inputs["parameters"], x, y)
        if found is not None and (best is None or found.apart < best.apart):
            best = found
    return best


def _closest_of(body: LayerBody, forms: Shapes, parameters: ShapeParameters, x: float,
             y: float) -> Dealt | None:
    clouds, period = body.field.instances, float(body.record["period"])
    dx = (clouds["x"] - x + 0.5 * period) % period - 0.5 * period
    dy = (clouds["y"] - y + 0.5 * period) % period - 0.5 * period
    radii = clouds["scale"] * np.minimum(forms.radii[clouds["shape"]], BOX * parameters.radius_m)
    there = (clouds["reach"] > 0.0) & (radii > 0.5 * NARROWEST_M)
    apart = np.where(there, np.hypot(dx, dy) / np.maximum(radii, 1.0), np.inf)
    if not len(apart) or float(apart.min()) > NEAR:
        return None
    k = int(np.argmin(apart))
    one, radius = clouds[k], float(radii[k])
    heights, anvils, _, _ = forms_of(parameters)
    form = int(one["shape"])
    east, north = x + float(dx[k]), y + float(dy[k])
    return Dealt(body.layer.id, {
        "east_m": round(east, 1), "north_m": round(north, 1),
        "width_m": min(round(2.0 * radius, 1), 25_000.0),
        "height_m": min(max(round(float(one["top"]), 1), 50.0), 16_000.0),
        "growth": 1.0, "anvil": round(anvils[form], 3), "seed": parameters.seed,
        "turn_deg": round(-math.degrees(math.atan2(one["turn_sin"], one["turn_cos"])), 2),
        "taken": {"form": form, "aspect": heights[form] / parameters.radius_m,
                  "east_m": round(east, 1), "north_m": round(north, 1)}}, float(apart[k]))
