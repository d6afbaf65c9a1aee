"""The clip in the document: its length and rate, how its time runs, and values fixed at moments.

Seconds of the clip are what a viewer sees; seconds of the sky are those times `time_scale`.
"""

from __future__ import annotations

import math
from typing import Any, Literal, NamedTuple

from pydantic import Field, field_validator, model_validator

from dovrek.sky.parameter import Group, choice, number

LONGEST_S, KEYS_MOST, POINTS_MOST = 600.0, 64, 200
Ease = Literal["hold", "linear", "smooth"]
Beyond = Literal["hold", "continue", "repeat"]
Value = float | bool | str


class Point(NamedTuple):
    """A value fixed at a moment, and how it runs from there to the next."""

    at_s: float
    value: Value
    ease: Ease = "smooth"


class Keys(Group):
    """Values of one control over the clip."""

    points: list[Point] = Field(min_length=1, max_length=POINTS_MOST)
    before: Beyond = "hold"
    after: Beyond = "hold"

    @model_validator(mode="after")
    def _in_order(self) -> Keys:
        times = [p.at_s for p in self.points]
        for time in times:
            if not math.isfinite(time) or not 0.0 <= time <= LONGEST_S:
                raise ValueError(f"a key lies at {time:g} s; give a time from 0 to {LONGEST_S:g} s")
        if any(b - a < 1e-3 for a, b in zip(times, times[1:], strict=False)):
            raise ValueError("two keys lie at one time or out of order; give each a later time "
                             "than the one before")
        return self


class Motion(Group):
    """How the sky moves."""

    length_s: float = number(
        10.0, low=0.5, high=LONGEST_S, step=0.5, unit="s", group="Clip", label="Length",
        scale="log", help="Length of the clip as a viewer sees it.",
    )
    fps: float = number(
        25.0, low=1.0, high=120.0, step=1.0, unit="/s", group="Clip", label="Frames a second",
        scale="log", help="Frames that a second of the clip has.",
    )
    time_scale: float = number(
        30.0, low=0.05, high=3600.0, step=1.0, unit="×", group="Clip", label="Time scale",
        scale="log", help="Seconds of the sky in a second of the clip: 1 is real time, 60 lets a "
        "minute pass in a second.",
    )
    loop: bool = choice(
        False, group="Clip", label="Loop",
        help="The last frame meets the first: layers pass over into themselves, the sun stands "
        "still.",
    )
    sun_moves: bool = choice(
        True, group="Clip", label="Sun moves",
        help="The sun follows the clock through the clip; it does not in a loop, nor set free.",
    )
    shutter_deg: float = number(
        0.0, low=0.0, high=360.0, step=45.0, unit="°", group="Clip", label="Shutter",
        help="How long a frame is exposed: 360° from one frame to the next, 0 an instant. Prints, "
        "sequences and films take 2 to 4 moments for a frame and up to as many times as long; "
        "the composer shows instants.",
    )
    exposure: Literal["follows", "fixed"] = choice(
        "follows", group="Clip", label="Automatic exposure",
        help="follows: metered along the clip, smoothly. fixed: as at its start.",
    )
    keys: dict[str, Keys] = Field(default_factory=dict, max_length=KEYS_MOST)

    @field_validator("keys", mode="before")
    @classmethod
    def _sorted(cls, given: Any) -> Any:
        return dict(sorted(given.items())) if isinstance(given, dict) and all(
            isinstance(k, str) for k in given) else given

    @property
    def frames(self) -> int:
        """Frames of the whole clip."""
        return max(round(self.length_s * self.fps), 1)


def value_of(keys: Keys, at_s: float, period_s: float) -> Value:
    """The value of a keyed control at a second of the clip; `period_s` is its length, after which
    keys that repeat begin again."""
    points = keys.points
    first, last = points[0], points[-1]
    if len(points) == 1:
        return first.value
    span = last.at_s - first.at_s
    if at_s < first.at_s and keys.before != "hold" or at_s > last.at_s and keys.after != "hold":
        how = keys.before if at_s < first.at_s else keys.after
        if how == "repeat":
            at_s = first.at_s + (at_s - first.at_s) % min(span, period_s or span)
        elif not _numbers(points):
            return first.value if at_s < first.at_s else last.value
        else:
            a, b = points[:2] if at_s < first.at_s else points[-2:]
            slope = (float(b.value) - float(a.value)) / (b.at_s - a.at_s)
            end = first if at_s < first.at_s else last
            return float(end.value) + slope * (at_s - end.at_s)
    if at_s <= first.at_s:
        return first.value
    if at_s >= last.at_s:
        return last.value
    index = max(k for k, p in enumerate(points) if p.at_s <= at_s)
    return _between(points, index, at_s)


def _between(points: list[Point], index: int, at_s: float) -> Value:
    a, b = points[index], points[index + 1]
    if a.ease == "hold" or isinstance(a.value, bool) or isinstance(b.value, bool):
        return a.value
    share = (at_s - a.at_s) / (b.at_s - a.at_s)
    if isinstance(a.value, str) or isinstance(b.value, str):
        return _colour_between(str(a.value), str(b.value), share)
    low, high = float(a.value), float(b.value)
    if a.ease == "linear":
        return low + (high - low) * share
    # Monotone cubic (Fritsch & Carlson 1980): no value beyond those that were fixed.
    slopes = [_slope(points, k) for k in (index, index + 1)]
    step = b.at_s - a.at_s
    s2, s3 = share * share, share**3
    return ((2 * s3 - 3 * s2 + 1) * low + (s3 - 2 * s2 + share) * step * slopes[0]
            + (3 * s2 - 2 * s3) * high + (s3 - s2) * step * slopes[1])


def _slope(points: list[Point], k: int) -> float:
    """Slope at a point: none at the ends and at turns, the harmonic mean of its sides' between."""
    if k == 0 or k == len(points) - 1:
        return 0.0
    sides = [(float(q.value) - float(p.value)) / (q.at_s - p.at_s)
             for p, q in ((points[k - 1], points[k]), (points[k], points[k + 1]))]
    if sides[0] * sides[1] <= 0.0:
        return 0.0
    return 2.0 * sides[0] * sides[1] / (sides[0] + sides[1])


def _numbers(points: list[Point]) -> bool:
    return all(isinstance(p.value, int | float) and not isinstance(p.value, bool) for p in points)


def _colour_between(a: str, b: str, share: float) -> str:
    if not (len(a) == len(b) == 7 and a[0] == b[0] == "#"):
        return a
    mixed = [round(int(a[k : k + 2], 16) * (1 - share) + int(b[k : k + 2], 16) * share)
             for k in (1, 3, 5)]
    return "#" + "".join(f"{v:02x}" for v in mixed)
