"""The sky at a second of its clip: a pure function of document and time."""

from __future__ import annotations

import math
from datetime import UTC, timedelta
from typing import Any

from dovrek.sky.changes import put_values
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.motion import Keys, Point, value_of
from dovrek.sky.seen import fog_id, layers_of
from dovrek.sky.trials import declaration_of, value_at

SLOWEST_M_S, PER_KM_M_S, FASTEST_M_S = 4.0, 2.0, 45.0  # of layers by their height
WIND_STEP_S = 0.125  # of the clip: steps in which a keyed wind is summed up


def in_clip(sky: Sky, clip_s: float) -> float:
    """A second within the clip: a loop begins again at its end."""
    if sky.motion.loop:
        return clip_s % sky.motion.length_s
    return min(max(clip_s, 0.0), sky.motion.length_s)


def loop_keys(keys: Keys, length_s: float) -> Keys:
    """Keys as a loop takes them: the last runs on to the first."""
    points = [p for p in keys.points if p.at_s < length_s]
    if not points:
        return Keys(points=[keys.points[0]])
    first, last = points[0], points[-1]
    around = [Point(p.at_s + shift, p.value, p.ease) for p, shift in (
        (last, -length_s), *((p, 0.0) for p in points), (first, length_s))]
    return keys.model_copy(update={"points": around})


def keyed_value(sky: Sky, path: str, clip_s: float) -> Any:
    """The value of a keyed control, held to its limits."""
    keys, motion = sky.motion.keys[path], sky.motion
    if motion.loop:
        keys = loop_keys(keys, motion.length_s)
    found: Any = value_of(keys, clip_s, motion.length_s)
    known = declaration_of(path)
    if known is not None and known.kind in ("number", "integer"):
        found = min(max(float(found), float(known.low or 0.0)), float(known.high or 0.0))
        if known.kind == "integer":
            found = round(found)
    return found


def sky_at(sky: Sky, clip_s: float) -> Sky:
    """The document as it stands at a second of the clip: keyed values, and the hour if the sun
    follows the clock. At 0 without keys it is the document itself."""
    clip_s, motion = in_clip(sky, clip_s), sky.motion
    values = {path: keyed_value(sky, path, clip_s) for path in motion.keys}
    if motion.sun_moves and not motion.loop and sky.sun.mode == "clock" and clip_s > 0.0:
        # As an instant: clocks may change within the clip.
        moment = sky.local_moment().astimezone(UTC) + timedelta(
            seconds=clip_s * motion.time_scale)
        values["moment"] = moment.isoformat(timespec="microseconds")
    values = {path: value for path, value in values.items() if value_at(sky, path) != value}
    return put_values(sky, values) if values else sky


def wind_of(layer: Layer) -> float:
    """Speed of a layer's wind, m/s: as set, or by its height (common practice)."""
    if layer.wind.speed_m_s is not None:
        return layer.wind.speed_m_s
    if layer.species == "lenticularis":  # they stand over what makes them (WMO cloud atlas)
        return 0.0
    return min(SLOWEST_M_S + PER_KM_M_S * layer.base_m * 1e-3, FASTEST_M_S)


def velocity_of(layer: Layer) -> tuple[float, float]:
    """Where a layer goes, east and north, m/s."""
    bearing, speed = math.radians(layer.wind.from_deg + 180.0), wind_of(layer)
    return speed * math.sin(bearing), speed * math.cos(bearing)


def _layer(sky: Sky, layer_id: str) -> Layer:
    return next(x for x in [*sky.layers, *layers_of(sky)] if x.id == layer_id)


def drift_of(sky: Sky, layer_id: str, clip_s: float) -> tuple[float, float]:
    """How far a layer has gone at a second of the clip, metres east and north: its velocity times
    the sky's seconds, summed up in steps where the wind is keyed."""
    here = _layer(sky, layer_id)
    scale = sky.motion.time_scale
    paths = [p for p in sky.motion.keys if p.startswith(f"layers[{layer_id}].") and (
        ".wind." in p or p.endswith(".base_m"))]
    if layer_id == fog_id(sky):
        paths = [p for p in sky.motion.keys if p in ("fog.from_deg", "fog.speed_m_s")]
    if not paths:
        east, north = velocity_of(here)
        return east * clip_s * scale, north * clip_s * scale

    def velocity(at_s: float) -> tuple[float, float]:
        told = put_values(sky, {p: keyed_value(sky, p, at_s) for p in paths})
        return velocity_of(_layer(told, layer_id))

    steps = math.floor(clip_s / WIND_STEP_S)
    east = north = 0.0
    marks = [k * WIND_STEP_S for k in range(steps + 1)] + [clip_s]
    speeds = [velocity(t) for t in marks]
    for k in range(len(marks) - 1):
        share = 0.5 * (marks[k + 1] - marks[k]) * scale
        east += share * (speeds[k][0] + speeds[k + 1][0])
        north += share * (speeds[k][1] + speeds[k + 1][1])
    return east, north
