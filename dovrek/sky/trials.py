"""Values to try: what a test strip shows along a control's range, hours and seeds of a sheet."""

from __future__ import annotations

import math
from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.genera import WORDS
from dovrek.sky.hero import Hero
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import Parameter, parameter_at

FEWEST, MOST = 2, 7
NEAR_SHARE = 0.15  # of the range to either side, when centred on the value at hand
SEEDS = 7
TINTS = ("#ffffff", "#ffe2c4", "#ffc890", "#ff9d6e", "#d9e4ff", "#b9c8f2", "#e7d3e6")
# Density by height: even, heavy below, heavy above, hollow, banded.
PROFILES: tuple[tuple[str, list[list[float]]], ...] = (
    ("the genus's own", []),
    ("even", [[0.0, 1.0], [1.0, 1.0]]),
    ("heavy below", [[0.0, 1.0], [0.5, 0.7], [1.0, 0.15]]),
    ("heavy above", [[0.0, 0.2], [0.5, 0.7], [1.0, 1.0]]),
    ("full middle", [[0.0, 0.2], [0.5, 1.0], [1.0, 0.2]]),
)
WITHOUT_STRIP = ("text", "map")


def declaration_of(path: str) -> Parameter | None:
    """The declaration behind a path such as ``layers[ID].body.fray`` or ``air.haze``."""
    if path.startswith("layers["):
        inner = path.partition("].")[2]
        if inner.startswith("heroes["):
            return parameter_at(Hero, inner.partition("].")[2])
        return parameter_at(Layer, inner)
    return parameter_at(Sky, path)


def layer_of(sky: Sky, path: str) -> Layer | None:
    """The layer that a path lies in."""
    if not path.startswith("layers["):
        return None
    return next((x for x in sky.layers if x.id == path[7:].partition("]")[0]), None)


def value_at(sky: Sky, path: str) -> Any:
    """The value at a path; layers go by id. Raises ValueError or AttributeError where there is
    none."""
    if not path.startswith("layers["):
        return value_in(sky, path)
    layer = layer_of(sky, path)
    if layer is None:
        raise ValueError("the layer of this strip is gone; choose another control")
    inner = path.partition("].")[2]
    if inner.startswith("heroes["):
        hero_id, _, inner = inner[7:].partition("].")
        hero = next((h for h in layer.heroes if h.id == hero_id), None)
        if hero is None:
            raise ValueError("the cloud of this strip is gone; choose another control")
        return value_in(hero, inner)
    return value_in(layer, inner)


def value_in(model: Any, path: str) -> Any:
    """The value at a dotted path of a part of the document."""
    for part in path.split("."):
        model = getattr(model, part)
    return model


def tidy(value: float, parameter: Parameter) -> float | int:
    """A value on the control's own grid and within its limits."""
    low, high, step = parameter.low or 0.0, parameter.high or 1.0, parameter.step or 0.01
    if parameter.kind == "integer":
        return int(min(max(round(value), low), high))
    grid = step / 10 if parameter.scale == "log" and value < 10 * step else step
    return min(max(float(f"{round(value / grid) * grid:.8g}"), low), high)


def along(parameter: Parameter, share: float) -> float:
    """The value at a share of a control's range, 0 to 1."""
    low, high = parameter.low or 0.0, parameter.high or 1.0
    if parameter.scale == "log" and low > 0.0:
        return float(low * (high / low) ** share)
    return low + (high - low) * share


def share_of(parameter: Parameter, value: float) -> float:
    """The inverse of `along`, held to 0 … 1."""
    low, high = parameter.low or 0.0, parameter.high or 1.0
    if parameter.scale == "log" and low > 0.0:
        share = math.log(max(value, low) / low) / math.log(high / low)
    else:
        share = (value - low) / (high - low)
    return min(max(share, 0.0), 1.0)


def range_near(parameter: Parameter, now: float) -> tuple[float, float]:
    """A range about the value at hand, within the limits."""
    middle = min(max(share_of(parameter, now), NEAR_SHARE), 1.0 - NEAR_SHARE)
    return along(parameter, middle - NEAR_SHARE), along(parameter, middle + NEAR_SHARE)


def values_to_try(sky: Sky, path: str, count: int = 5, low: float | None = None,
                  high: float | None = None) -> list[tuple[str, Any]]:
    """Labels and values along a control's range, the lowest first.

    `low` and `high` narrow the range of a number; words, switches, colours and curves give what
    they can be. Raises ValueError for a path that has no strip.
    """
    parameter = declaration_of(path)
    layer = layer_of(sky, path)
    if parameter is None or parameter.kind in WITHOUT_STRIP or (
            path.startswith("layers[") and layer is None):
        raise ValueError(f"{path}: this has no test strip; choose a control with a range or words")
    count = min(max(count, FEWEST), MOST)
    key = path.rpartition(".")[2]
    if parameter.kind == "switch":
        return [("off", False), ("on", True)]
    if parameter.kind == "colour":
        return [(c, c) for c in TINTS[:count]]
    if parameter.kind == "curve":
        return list(PROFILES[:count])
    if parameter.kind in ("choice", "words"):
        options = tuple(WORDS[key][layer.genus]) if layer and key in WORDS else parameter.options
        if parameter.kind == "choice":
            plain = ("",) if key in WORDS else ()
            return [(o or "none", o) for o in (*plain, *options)]
        return [("none", []), *[(o, [o]) for o in options]]
    if key == "seed":
        now = int(value_at(sky, path))
        return [(f"{now + k}", now + k) for k in range(count) if now + k <= (parameter.high or 0)]
    start = share_of(parameter, parameter.low or 0.0 if low is None else low)
    end = share_of(parameter, parameter.high or 1.0 if high is None else high)
    start, end = min(start, end), max(start, end)
    found: list[tuple[str, Any]] = []
    for k in range(count):
        value = tidy(along(parameter, start + (end - start) * k / (count - 1)), parameter)
        if all(value != v for _, v in found):
            found.append((f"{value:g}", value))
    return found


def hours_to_try(sunrise: float | None, sunset: float | None, count: int = 12) -> list[float]:
    """Hours of the day (0 … 24) for a sheet: from before sunrise to after sunset, closer where
    the light changes fast; even hours where the sun neither rises nor sets."""
    if sunrise is None or sunset is None or sunset <= sunrise:
        return [24.0 * k / count for k in range(count)]
    first, last = max(sunrise - 0.6, 0.0), min(sunset + 0.6, 23.98)
    # A cosine spacing: dense at both ends.
    return [first + (last - first) * 0.5 * (1.0 - math.cos(math.pi * k / (count - 1)))
            for k in range(count)]
