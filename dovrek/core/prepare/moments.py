"""Scenes of a clip: light solved at fixed moments, riding with its clouds, mixed in between.

A frame between two of these moments (`epochs`) takes the light of both, each solved cold with the
layers where they then were, on grids that lie still in the layer's own field. Nothing that was made
before reaches into a frame: it is the same whenever and wherever it is made.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sky_view import SkyView
from dovrek.core.air.sources import sources
from dovrek.core.clouds.builds import build_of
from dovrek.core.clouds.light.grid import CHANNELS
from dovrek.core.clouds.motion import moving_of, turns_of
from dovrek.core.geometry.travel import foot_on
from dovrek.core.land.meeting import raised
from dovrek.core.prepare.assembly import joined_field, sun_record
from dovrek.core.prepare.fineness import FINE, Fineness
from dovrek.core.prepare.preparer import Moves, Prepared, Preparer
from dovrek.core.run.stage import Known, Tools, key_of, stage
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.scene import Scene
from dovrek.sky.clip import in_clip, keyed_value, sky_at
from dovrek.sky.document import Sky
from dovrek.sky.seen import layers_of

EPOCH_SKY_S = 30.0  # of the sky between two moments whose light is solved
EPOCH_ARC_RAD = math.radians(2.0)  # that the camera travels round the planet between two
TRAVEL_MARKS = 16  # of a clip, between which a keyed travel is summed up
EPOCHS_APART_S = (0.25, 1.0)  # of the clip: at least, at most
CLIMBS = 0.01  # of the eye's height, as a ratio, from which the air is told for each frame
TRAVEL = ("camera.east_m", "camera.north_m")
FOOT = ("east", "north", "latitude", "longitude")  # of the ground's record
LOOP_EPOCHS = 8  # at least, in a loop
# For a first look: of the sky over which light may stand for another moment's, and how many
# solved moments are asked for.
LIGHT_HOLDS_SKY_S, MOMENTS_TRIED = 600.0, 24


@dataclass(frozen=True)
class Moment:
    """The sky at a second of its clip: the document as it stands, and the layers' motion."""

    sky: Sky
    moved: Moves


def travelled(sky: Sky) -> float:
    """How far round the planet the camera goes in the clip, radians."""
    paths = [p for p in TRAVEL if p in sky.motion.keys]
    marks = range(TRAVEL_MARKS + 1 if paths else 0)
    places = [[keyed_value(sky, p, k / TRAVEL_MARKS * sky.motion.length_s) for p in paths]
              for k in marks]
    return sum(math.dist(a, b) for a, b in pairwise(places)) / sky.air.planet_m


def epoch_s(sky: Sky) -> float:
    """Seconds of the clip between two moments whose light is solved: a whole part of it."""
    low, high = EPOCHS_APART_S
    length = sky.motion.length_s
    apart = min(max(EPOCH_SKY_S / sky.motion.time_scale, low), high, length,
                max(length * EPOCH_ARC_RAD / max(travelled(sky), 1e-9), low))
    if not sky.motion.loop:
        return length / max(round(length / apart), 1)
    # A copy is not ridden to where it begins again, nor a turn of lives beyond its end.
    turns = max((turns_of(x, length * sky.motion.time_scale) for x in layers_of(sky)), default=1)
    least = max(round(length / min(apart, length / LOOP_EPOCHS)), 1)
    return length / (turns * math.ceil(least / turns))


def moment_of(sky: Sky, clip_s: float, about_s: float | None = None) -> Moment:
    """The sky at a second of the clip; light grids lie where the layers are about `about_s`
    (unsaid: at that second itself)."""
    told, moved = sky_at(sky, clip_s), {}
    here = sky.model_copy(update={"camera": told.camera})  # its travel may be keyed
    for layer in layers_of(told):
        cells = build_of(layer).cells_of(layer.cells.size_m, layer.thickness_m,
                                         layer.body.density_per_km * 1e-3)
        moved[layer.id] = moving_of(here, layer, clip_s, about_s, cells.dx)
    return Moment(told, moved)


def scene_at(preparer: Preparer, sky: Sky, clip_s: float, fineness: Fineness,
             cancel: Cancel) -> Prepared:
    """The scene of a frame. Raises Cancelled."""
    clip_s = in_clip(sky, clip_s)
    apart = epoch_s(sky)
    # A frame on an epoch takes it alone; by whole steps, so that no rounding moves it aside.
    place = clip_s / apart
    first = min(math.floor(place + 1e-9), max(math.ceil(sky.motion.length_s / apart - 1e-9) - 1, 0))
    share = min(max(place - first, 0.0), 1.0)
    grids_s = first * apart  # so that the first frame is the still
    begin = moment_of(sky, first * apart, grids_s)
    one = preparer.scene(begin.sky, fineness, cancel, begin.moved)
    if share < 1e-6:
        return one
    # The end of a loop is its beginning.
    end = moment_of(sky, min((first + 1) * apart, sky.motion.length_s), grids_s)
    other = preparer.scene(end.sky, fineness, cancel, end.moved)
    return _under(preparer, moment_of(sky, clip_s, grids_s), one, other, share, cancel)


def scene_soon(preparer: Preparer, sky: Sky, clip_s: float, fineness: Fineness,
               cancel: Cancel) -> Prepared:
    """The scene of a moment for a first look: clouds and sun as they then are, under the light of
    the nearest moment that is solved already, however finely, else of one that is solved for it.

    Not the frame that is kept: it hangs on what was made before. Raises Cancelled.
    """
    clip_s, apart = in_clip(sky, clip_s), epoch_s(sky)
    length, scale = sky.motion.length_s, sky.motion.time_scale
    count = round(length / apart) + (0 if sky.motion.loop else 1)
    turns = [length / turns_of(x, length * scale) for x in layers_of(sky)]
    turn_s = min(turns, default=length) if sky.motion.loop else math.inf
    marks = sorted((k * apart for k in range(count)), key=lambda s: abs(s - clip_s))
    near = [s for s in marks if abs(s - clip_s) * scale <= LIGHT_HOLDS_SKY_S
            and s // turn_s == clip_s // turn_s] or marks[:1]
    for at_s in near[:MOMENTS_TRIED]:
        solved = moment_of(sky, at_s, at_s)
        for how in (FINE, fineness):
            if preparer.holds_scene(solved.sky, how, solved.moved):
                one = preparer.scene(solved.sky, how, cancel, solved.moved)
                now = moment_of(sky, clip_s, at_s)
                if [b.layer.id for b in one.bodies] == [x.id for x in layers_of(now.sky)]:
                    return _under(preparer, now, one, one, 0.0, cancel)
    solved = moment_of(sky, near[0], near[0])
    one = preparer.scene(solved.sky, fineness, cancel, solved.moved)
    return _under(preparer, moment_of(sky, clip_s, near[0]), one, one, 0.0, cancel)


def _under(preparer: Preparer, now: Moment, one: Prepared, other: Prepared, share: float,
           cancel: Cancel) -> Prepared:
    """The clouds and the sun of a moment under light between that of two. Raises Cancelled."""
    # Grids are laid out for the eye of the moment whose light they hold.
    exact = preparer.bodies(now.sky, one.fineness, cancel, now.moved, one.scene.height)
    wanted = sum(b.grid.levels * b.grid.n**2 * b.grid.nz * CHANNELS for b in exact)
    if exact and all(p.scene.light.size != wanted for p in (one, other)):
        # A layer comes or goes while the eye climbs: neither moment's grids are laid out as these.
        return preparer.scene(now.sky, one.fineness, cancel, now.moved)
    height = raised(now.sky).camera.altitude_m
    climbs = abs(math.log(one.scene.height / max(height, 0.2))) > CLIMBS
    maker = preparer.maker(cancel)
    joined = joined_field(exact)
    suns = sources(now.sky)
    lit = []
    for k, (a, b) in enumerate(zip(one.lights, other.lights, strict=False)):
        if k >= len(suns):
            break
        foot = (now.sky.camera.east_m, now.sky.camera.north_m, *foot_on(now.sky))
        seen = preparer.seen_from(a, height) if climbs else None
        key = key_of("frame", a.key, b.key, share, joined.layers, joined.solid, joined.cells,
                     suns[k], foot, seen, height)
        node = mixed(one=Known(a.key, a), other=Known(b.key, b), share=share, layers=joined.layers,
                     solid=joined.solid, cells=joined.cells, foot=foot, seen=seen,
                     height_m=height, sun=sun_record(a.atmosphere, suns[k], height))
        scene = maker.make(node)
        lit.append(replace(a, scene=scene, sun=suns[k].place, bodies=tuple(exact), key=key,
                           weight=suns[k].weight, others=()))
    return replace(lit[0], others=tuple(lit[1:]), key=key_of(*(p.key for p in lit)))


@stage("frame", kept=False)
def mixed(tools: Tools, one: Prepared, other: Prepared, share: float, layers: NDArray[np.void],
          solid: NDArray[np.uint8], cells: tuple[Any, Any, Any], sun: np.void,
          foot: tuple[float, ...], seen: SkyView | None, height_m: float) -> Scene:
    """A scene between two: clouds, sun and the camera's foot (as `FOOT` names it) where they are,
    light between that of both; `seen` is the air from where the eye is, once it climbs or sinks
    much between the two."""
    a, b = one.scene, other.scene
    field = a.field._replace(layers=layers, bytes=solid, clearances=cells[0], instances=cells[1],
                             links=cells[2])
    if a is b or a.light.shape != b.light.shape:  # grids of another size are not mixed
        size = int((layers["grid_levels"] * layers["grid_n"] ** 2 * layers["grid_nz"]).sum())
        near = a if a is b or a.light.size == size * CHANNELS else b
        ground = near.ground.copy()
        _stand(ground, foot)
        return near._replace(field=field, sun=sun, ground=ground,
                             clear=seen or near.clear, height=max(height_m, 0.2))
    ground = a.ground.copy()
    for name in ground.dtype.names or ():
        ground[name] = _between(a.ground[name], b.ground[name], share)
    _stand(ground, foot)
    clear = seen or a.clear._replace(
        sky=_between(a.clear.sky, b.clear.sky, share),
        air=_between(a.clear.air, b.clear.air, share),
        horizon=_between(a.clear.horizon, b.clear.horizon, share),
        sun_azimuth=float(sun["azimuth"]),
        air_far_m=_between(a.clear.air_far_m, b.clear.air_far_m, share))
    return a._replace(
        field=field, sun=sun, ground=ground, clear=clear,
        light=_between(a.light, b.light, share), below=_between(a.below, b.below, share),
        ambient=_between(a.ambient, b.ambient, share),
        sunlight=_wider(a.sunlight, b.sunlight, share), glow=_between(a.glow, b.glow, share),
        day=_wider(a.day, b.day, share), height=max(height_m, 0.2))


def _stand(ground: np.void, foot: tuple[float, ...]) -> None:
    """Put the camera's foot where it is."""
    for name, value in zip(FOOT, foot, strict=True):
        ground[name] = value


def _wider(a: NDArray[np.float64], b: NDArray[np.float64], share: float) -> NDArray[np.float64]:
    """Between two tables; of two that reach unlike far, the one that reaches further."""
    if a.shape == b.shape:
        return np.asarray(_between(a, b, share))
    return a if a.size > b.size else b


def _between(a: Any, b: Any, share: float) -> Any:
    """Numbers or arrays between two; those that are the same stay."""
    if a is b:
        return a
    if isinstance(a, np.ndarray):
        mix = np.asarray(share, dtype=a.dtype)
        return a + mix * (b - a)
    return a + share * (b - a)
