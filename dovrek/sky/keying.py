"""Changes to keys: set, moved in time and value, eased, removed. Pure; returns a new sky."""

from __future__ import annotations

from typing import Any

from dovrek.sky.changes import refuse_held
from dovrek.sky.clip import keyed_value
from dovrek.sky.document import Sky
from dovrek.sky.errors import Fault, SkyError
from dovrek.sky.reading import sky_from_data, sky_to_data
from dovrek.sky.trials import value_at

NEAR_S = 0.02  # keys nearer to each other than this are one


def present_value(sky: Sky, path: str, clip_s: float) -> Any:
    """What a control is at a second of the clip. Raises SkyError for a path that is none."""
    if path in sky.motion.keys:
        return keyed_value(sky, path, clip_s)
    try:
        return value_at(sky, path)
    except (AttributeError, LookupError, ValueError):
        raise SkyError([Fault(path[:60], "", "is no control that can be keyed",
                              "key a number, a colour or a switch")]) from None


def with_key(sky: Sky, path: str, at_s: float, value: Any, ease: str | None = None) -> Sky:
    """The sky with a value fixed at a second of its clip; a key that is there changes. Raises
    SkyError."""
    document = _opened(sky, path)
    keys = document["motion"]["keys"].setdefault(path, {"points": []})
    points = [list(p) for p in keys["points"]]
    old = next((p for p in points if abs(p[0] - at_s) < NEAR_S), None)
    if old is not None:
        old[1] = value
        old[2] = ease or old[2]
    else:
        points.append([round(at_s, 3), value, ease or "smooth"])
    keys["points"] = sorted(points, key=lambda p: p[0])
    return sky_from_data(document)


def with_key_moved(sky: Sky, path: str, index: int, at_s: float, value: Any,
                   ease: str | None = None) -> Sky:
    """The sky with one of a control's keys at another second and value, held between its
    neighbours. Raises SkyError."""
    document = _opened(sky, path)
    points = _points(document, path, index)
    low = points[index - 1][0] + NEAR_S if index else 0.0
    high = points[index + 1][0] - NEAR_S if index + 1 < len(points) else sky.motion.length_s
    points[index] = [round(min(max(at_s, low), max(low, high)), 3), value,
                     ease or points[index][2]]
    return sky_from_data(document)


def without_key(sky: Sky, path: str, index: int) -> Sky:
    """The sky without one of a control's keys; without its last the control is as the document has
    it. Raises SkyError."""
    document = _opened(sky, path)
    points = _points(document, path, index)
    del points[index]
    if not points:
        del document["motion"]["keys"][path]
    return sky_from_data(document)


def _points(document: dict[str, Any], path: str, index: int) -> list[Any]:
    points: list[Any] = document["motion"]["keys"].get(path, {}).get("points", [])
    if not 0 <= index < len(points):
        raise SkyError([Fault(path[:60], str(index)[:20], "is a key that is not there any more",
                              "look at the clip again")])
    return points


def _opened(sky: Sky, path: str) -> dict[str, Any]:
    """The document, unless a lock holds what the path lies in."""
    document = sky_to_data(sky)
    for layer in document["layers"]:
        if path.startswith(f"layers[{layer['id']}]."):
            refuse_held(layer, path, path.partition("].")[2].partition(".")[0])
    return document
