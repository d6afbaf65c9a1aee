"""How a layer has moved at a moment of the clip: where its field lies, how far its shape has
changed, and where its light grids are."""

from __future__ import annotations

import math
from typing import NamedTuple

from dovrek.core.clouds.builds import build_of
from dovrek.core.clouds.placement.stand import CROSSING
from dovrek.core.clouds.record import HEAPED
from dovrek.sky.clip import drift_of, in_clip, velocity_of
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer

Vector = tuple[float, float]
Spin = tuple[float, float, float, float]

# Shape changes so much slower than drift carries it when it looks right (common practice).
CHURN_SHARE, LEAST_WIND_M_S = 1.0 / 25.0, 6.0
# Tiles that change, over the size of a cell: of the pattern, of lumps, of their skin.
CHURNED = (12.0, 1.0, 0.27)
WINDS = 1.2  # of its turn that a storm's middle winds on: textures half way out keep to the arms
DISSOLVE = 0.2  # of a loop over which a layer passes over into its other copy
COPY_APART_M = (23_000.0, 14_000.0)  # where the second copy of a loop is taken from
CENTRE_STEP = 12  # cells of the innermost grid by which grids follow a layer


class Moving(NamedTuple):
    """The motion of one layer at a moment: metres east and north, tiles of noise."""

    drift: Vector = (0.0, 0.0)  # of the field
    other: Vector = (0.0, 0.0)  # of its second copy in a loop
    fade: float = 0.0  # share of the second copy
    churn: tuple[float, float, float] = (0.0, 0.0, 0.0)  # tiles: pattern, lumps, skin
    centre: Vector = (0.0, 0.0)  # of the light grids, in the field's own frame
    turn: int = 0  # of lives of its heaps
    turned: float = -1.0  # share of it that has passed; below 0: its clouds stay
    turns: int = 0  # that a loop has
    spin: Spin = (0.0, 0.0, 0.0, 0.0)  # of a storm: turn of its arms, winding of its middle in
    # two copies (radians), share of the second
    back: Vector = (0.0, 0.0)  # by which the next turn's clouds are set back, in a loop


STILL = Moving()


def moving_of(sky: Sky, layer: Layer, clip_s: float, about_s: float | None = None,
              dx: float = 0.0) -> Moving:
    """The motion of a layer at a second of the clip; at 0 nothing has moved but the camera, which
    is where the document has it.

    Light grids lie still in the layer's field, about the camera's foot as it is at `about_s` (in
    steps of some cells of width `dx`); in a loop they ride with the copy that is seen more then.
    """
    clip_s, motion = in_clip(sky, clip_s), sky.motion
    travel = (sky.camera.east_m, sky.camera.north_m)
    passed, whole = clip_s * motion.time_scale, motion.length_s * motion.time_scale
    period = whole if motion.loop else layer.churn.period_s
    churn = churned(layer, passed, period, motion.loop)
    about_s = clip_s if about_s is None else in_clip(sky, about_s)
    spin = spun(layer, clip_s / motion.length_s, whole, motion.loop)
    if motion.loop and layer.cyclone.stands:  # it turns where it is
        rests = _less((0.0, 0.0), travel)
        return _centred(Moving(rests, churn=churn, spin=spin), rests, dx)
    if motion.loop and _heaped(layer):
        return _reborn(layer, passed, about_s * motion.time_scale, whole, travel, churn, dx)
    if not motion.loop:
        found = Moving(_less(drift_of(sky, layer.id, clip_s), travel), churn=churn, spin=spin)
        turn_s = turn_of(layer)
        if turn_s > 0.0:
            turn = math.floor(passed / turn_s)
            found = found._replace(turn=turn, turned=passed / turn_s - turn)
        return _centred(found, _less(drift_of(sky, layer.id, about_s), travel), dx)
    copies, fade = _copies(layer, clip_s / motion.length_s, whole, travel)
    about, fade_about = _copies(layer, about_s / motion.length_s, whole, travel)
    if fade_about > 0.5:
        return _centred(Moving(copies[1], copies[0], 1.0 - fade, churn), about[1], dx)
    return _centred(Moving(copies[0], copies[1], fade, churn), about[0], dx)


def _heaped(layer: Layer) -> bool:
    return build_of(layer).form == HEAPED


def turn_of(layer: Layer) -> float:
    """Seconds of the sky after which every heap of a layer has given way to another; 0: none does.

    A cloud that takes over at the end of another's turn has begun before it, so a turn is shorter
    than a life.
    """
    if not _heaped(layer) or layer.churn.rate <= 0.0:
        return 0.0
    return layer.life.cycle_s / (1.0 + CROSSING)


def turns_of(layer: Layer, whole_s: float) -> int:
    """Turns of lives that a loop of so many seconds of the sky holds: a power of two, so that those
    of all layers end together."""
    if not _heaped(layer):
        return 1
    turn_s = turn_of(layer) or whole_s
    return 1 << max(round(math.log2(whole_s / turn_s)), 0)


def _reborn(layer: Layer, passed_s: float, about_s: float, whole_s: float, travel: Vector,
            churn: tuple[float, float, float], dx: float) -> Moving:
    """Heaps in a loop: each cloud drifts from its birthplace, and the next is born as far upwind of
    it as the wind goes in a turn, so that the last turn meets the first."""
    east, north = velocity_of(layer)
    turns, still = turns_of(layer, whole_s), turn_of(layer) <= 0.0
    turn_s = whole_s / turns
    if still and (east, north) == (0.0, 0.0):
        return _centred(Moving(_less((0.0, 0.0), travel), churn=churn), _less((0.0, 0.0), travel),
                        dx)
    turn = min(math.floor(about_s / turn_s + 1e-9), turns - 1)
    since, since_about = passed_s - turn * turn_s, max(about_s - turn * turn_s, 0.0)
    if since < -1e-6 * turn_s:  # the end of the loop, where it begins again
        since += whole_s
    since = max(since, 0.0)
    found = Moving(_less((east * since, north * since), travel), churn=churn, turn=turn,
                   turned=min(since / turn_s, 1.0), turns=turns)
    if turn > 0 or since > 0.0:  # in the still no cloud is set back, whatever wind its height has
        found = found._replace(back=(-east * turn_s, -north * turn_s))
    return _centred(found, _less((east * since_about, north * since_about), travel), dx)


def _copies(layer: Layer, share: float, whole_s: float,
            travel: Vector) -> tuple[tuple[Vector, Vector], float]:
    """Drift of a loop's two copies, half of it apart, each from its own start, and the share of the
    second; at 0 the first stands alone."""
    east, north = velocity_of(layer)
    first, second = (share + 0.5) % 1.0, share % 1.0
    places = [_less((east * whole_s * (f - 0.5), north * whole_s * (f - 0.5)), travel)
              for f in (first, second)]
    bounded = (layer.region.side != "everywhere" or bool(layer.map.asset)
               or layer.bounds.shape != "none")
    if not bounded:  # elsewhere in its field, so that the halves of the loop differ
        places[1] = _less(places[1], COPY_APART_M)
    return (places[0], places[1]), dissolve(second) if east or north else 0.0


def spun(layer: Layer, share: float, whole_s: float, loop: bool) -> Spin:
    """How a turning storm has turned at a share of a clip of so many seconds of the sky. In a loop
    its arms make whole turns, and the winding of its middle passes over into one half a loop apart.
    """
    if not layer.cyclone.stands or (share == 0.0 and not loop):
        return 0.0, 0.0, 0.0, 0.0
    turns = whole_s / (3600.0 * layer.cyclone.turn_h)
    wound = 2.0 * math.pi * turns * WINDS
    if not loop:
        return 2.0 * math.pi * turns * share, wound * share, 0.0, 0.0
    first, second = (share + 0.5) % 1.0, share % 1.0
    return (2.0 * math.pi * round(turns) * share, wound * (first - 0.5), wound * (second - 0.5),
            dissolve(second))


def dissolve(share: float) -> float:
    """Share of a copy at a place of its own run: none at its ends, whole in its middle; with that
    of the copy half a run apart it makes 1."""
    near = min(share, 1.0 - share)  # 0 … ½
    u = min(max((near - 0.25 + 0.5 * DISSOLVE) / DISSOLVE, 0.0), 1.0)
    return u * u * (3.0 - 2.0 * u)


def churned(layer: Layer, passed_s: float, period_s: float,
            loop: bool) -> tuple[float, float, float]:
    """Tiles by which a layer's noise has moved on after seconds of the sky: whole ones in a period,
    so that it closes."""
    if layer.churn.rate <= 0.0 or passed_s == 0.0:
        return 0.0, 0.0, 0.0
    speed = layer.churn.rate * CHURN_SHARE * max(math.hypot(*velocity_of(layer)), LEAST_WIND_M_S)
    found = []
    for share in CHURNED:
        tiles = speed * period_s / (share * layer.cells.size_m)
        count = round(tiles) if loop else max(round(tiles), 1)
        found.append(count * passed_s / period_s)
    return found[0], found[1], found[2]


def _centred(moving: Moving, about: Vector, dx: float) -> Moving:
    """With light grids where the layer is about a drift; they follow in steps, so that moments near
    each other share them."""
    step = CENTRE_STEP * dx
    if step <= 0.0:
        return moving
    return moving._replace(centre=(-step * round(about[0] / step), -step * round(about[1] / step)))


def _less(a: Vector, b: Vector) -> Vector:
    return a[0] - b[0], a[1] - b[1]
