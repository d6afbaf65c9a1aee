"""Pictures from scenes: lens, tiles, samples, metering."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sunlight import illuminances
from dovrek.core.clouds.values import smooth
from dovrek.core.colour.curve import PLAIN, Curve, curve_of
from dovrek.core.colour.film import ISO_CONSTANT, automatic_white, meter, meter_for
from dovrek.core.colour.glass import CLEAR, Glass
from dovrek.core.geometry.lens import direction_at, picture_lens
from dovrek.core.geometry.planet import HIGH_EYE_M
from dovrek.core.geometry.views import VIEWS
from dovrek.core.geometry.views.view import Lens
from dovrek.core.picture.calming import calm
from dovrek.core.picture.sparing import (
    ALWAYS,
    bridge,
    every_fourth,
    every_other,
    find_horizon,
    find_uneven,
    widened,
)
from dovrek.core.prepare.fineness import FINE, HAND, SKETCH, Fineness
from dovrek.core.prepare.preparer import Prepared
from dovrek.core.run.stage import Tools, stage
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.march import march_pixels
from dovrek.core.transport.passes import PASSES, Passes, add_passes, passes_of
from dovrek.core.transport.sample import ALPHA, OUT
from dovrek.core.transport.scene import Marching
from dovrek.sky.document import Camera, Film
from dovrek.sky.seen import owners_of

TILE_W, TILE_H = 96, 32
FEW_TILES, SMALL_TILE = 6, (24, 14)  # of a small picture, so that no thread is idle at its end
HAND_ROWS = 6  # of a picture under a moving hand that one task takes
METER_SIZE, METER_IN_HAND = (48, 27), (32, 18)
FAR_SAMPLE = 100_000  # where their series starts
NO_PASSES = np.empty((0, 0, 0), dtype=np.float32)


@dataclass(frozen=True)
class Quality:
    """How finely a picture is made; draft, proof and final share every table."""

    name: str
    fineness: Fineness
    samples: int
    step: float
    detail: float
    spread: float = 0.0  # neighbours that differ less are not worth a ray between them
    wide: float = 0.0  # the same between diagonal neighbours, of which one in four is marched
    footprint: float = 1.0  # of a pixel that detail is averaged over
    horizon: int = 8  # samples of a pixel that the horizon crosses
    in_hand: bool = False  # gone with the hand's next move: one pixel of four is marched

    @property
    def calmed(self) -> bool:
        """Whether its frames are freed of grain: not those of which every pixel is marched."""
        return self.spread > 0.0


QUALITIES = {
    "sketch": Quality("sketch", SKETCH, 1, 2.8, 1.0, 0.7, 0.45, horizon=2),
    # A sketch of a fine scene that is at hand.
    "glance": Quality("glance", FINE, 1, 2.8, 1.0, 0.7, 0.45, horizon=2),
    # Under a moving hand, and the same of a fine scene that is at hand.
    "hand": Quality("hand", HAND, 1, 3.6, 0.5, ALWAYS, footprint=2.0, in_hand=True),
    "swift": Quality("swift", FINE, 1, 3.6, 0.5, ALWAYS, footprint=2.0, in_hand=True),
    "draft": Quality("draft", FINE, 1, 2.1, 2.0, 0.38, 0.23),
    "proof": Quality("proof", FINE, 1, 2.1, 2.0, 0.38, 0.23),
    "final": Quality("final", FINE, 2, 1.2, 2.0, 0.17, 0.1),
}


class Tile(NamedTuple):
    """Part of a picture: columns x0 … x1 and rows y0 … y1."""

    x0: int
    y0: int
    x1: int
    y1: int


def tiles_of(width: int, height: int, tile_w: int = TILE_W, tile_h: int = TILE_H) -> list[Tile]:
    """Tiles of a picture, from its middle outward, where the eye is."""
    found = [Tile(x, y, min(x + tile_w, width), min(y + tile_h, height))
             for y in range(0, height, tile_h) for x in range(0, width, tile_w)]
    cx, cy = 0.5 * width, 0.45 * height
    return sorted(found, key=lambda t: math.hypot(0.5 * (t.x0 + t.x1) - cx,
                                                  0.5 * (t.y0 + t.y1) - cy))


def add_light(out: NDArray[np.float32], lit: NDArray[np.float32],
              weight: tuple[float, float, float], first: bool) -> None:
    """Add one light's share; alpha and distance are the first light's, for all see the same."""
    out[..., :3] += lit[..., :3] * np.asarray(weight, dtype=np.float32)
    if first:
        out[..., 3:] += lit[..., 3:]


def _add(prepared: Prepared, lens: Lens, marching: Marching, size: tuple[int, int], tile: Tile,
         todo: NDArray[np.uint8], sample: int, cancel: Cancel, out: NDArray[np.float32],
         passes: NDArray[np.float32] = NO_PASSES) -> int:
    """Add one sample to the pixels of a tile that `todo` marks, under all lights; the rays."""
    rays = 0
    for place, light in enumerate(prepared.lights):
        rays += int(np.count_nonzero(todo))
        plain = place == 0 and light.weight == (1.0, 1.0, 1.0)
        lit = out if plain else np.zeros_like(out)
        parts = passes if plain else np.zeros_like(passes)
        march_pixels(light.scene, lens, marching, size[0], size[1], tile.y0, tile.x0, todo,
                     sample, cancel.flag, lit, parts)
        if not plain:
            add_light(out, lit, light.weight, place == 0)
            if passes.shape[0]:
                add_passes(passes, parts, light.weight, place == 0)
    return rays


def _horizon(prepared: Prepared, lens: Lens, size: tuple[int, int],
             tile: Tile) -> NDArray[np.uint8]:
    """Which pixels of a tile the horizon or the land's outline crosses."""
    scene, height, width = prepared.scene, tile.y1 - tile.y0, tile.x1 - tile.x0
    crossed = np.empty((height, width), dtype=np.uint8)
    dip = -math.sqrt(max(1.0 - (scene.radius / (scene.radius + scene.height)) ** 2, 0.0))
    find_horizon(scene, lens, dip, *size, tile.y0, tile.x0, np.empty(2), np.empty(3),
                 np.empty((height + 1, width + 1), dtype=np.uint8), crossed)
    return crossed


def march_tile(prepared: Prepared, lens: Lens, marching: Marching, size: tuple[int, int],
               tile: Tile, quality: Quality, cancel: Cancel,
               first_sample: int = 0,
               passes: NDArray[np.float32] = NO_PASSES) -> tuple[NDArray[np.float32], int]:
    """(rows, columns, 5) mean light of a tile, XYZ (cd/m²), alpha, distance (m); and its rays.

    Rays go where the picture is uneven; a tile cancelled half-way is not to be used. `passes`
    (rows, columns, PASSES) receives sums over all samples; it asks for `spread` 0.
    """
    height, width = tile.y1 - tile.y0, tile.x1 - tile.x0
    light = np.zeros((height, width, OUT), dtype=np.float32)
    everywhere = np.ones((height, width), dtype=np.uint8)
    rays = 0

    def add(todo: NDArray[np.uint8], sample: int, out: NDArray[np.float32]) -> None:
        nonlocal rays
        rays += _add(prepared, lens, marching, size, tile, todo, sample, cancel, out, passes)

    if quality.spread <= 0.0:
        for sample in range(first_sample, first_sample + quality.samples):
            add(everywhere, sample, light)
        return light / np.float32(quality.samples), rays
    uneven, crossed = np.empty_like(everywhere), _horizon(prepared, lens, size, tile)
    on_line = crossed != 0
    if on_line.any():
        for sample in range(quality.horizon):
            add(crossed, FAR_SAMPLE + first_sample * quality.horizon + sample, light)
        light[on_line] /= np.float32(quality.horizon)
    off_line = 1 - crossed
    beside = widened(crossed) * off_line  # no mean may reach across the horizon
    chequer = every_other(height, width, tile.y0, tile.x0, first_sample) * off_line
    first = chequer
    if quality.wide > 0.0:
        first = every_fourth(height, width, tile.y0, tile.x0, first_sample) * off_line
    add(first, first_sample, light)
    steps = [(first, chequer - first, 1, quality.wide)] if quality.wide > 0.0 else []
    for there, wanted, slanting, spread in (*steps, (chequer, off_line - chequer, 0,
                                                     quality.spread)):
        bridge(light, there, wanted & (1 - beside), slanting, spread, uneven)
        add(uneven | (wanted & beside), first_sample, light)
    if quality.samples > 1:
        find_uneven(light, quality.spread, uneven)
        uneven &= off_line
        more = np.zeros_like(light)
        for sample in range(first_sample + 1, first_sample + quality.samples):
            add(uneven, sample, more)
        where = uneven != 0
        light[where] = (light[where] + more[where]) / np.float32(quality.samples)
    return light, rays


def render_frame(
    prepared: Prepared,
    lens: Lens,
    size: tuple[int, int],
    quality: Quality,
    workers: Workers,
    cancel: Cancel,
    sun_disc: bool = True,
    ground: bool = True,
    progress: Callable[[int, int], None] = lambda done, total: None,
    first_sample: int = 0,
    counted: list[int] | None = None,
    land: bool = True,
    sky: bool = True,
) -> NDArray[np.float32]:
    """(height, width, 5) mean XYZ (cd/m²), alpha and distance. Raises Cancelled.

    `counted` receives the number of rays of each tile.
    `first_sample` picks up a series: frames of samples 0, 1, 2 … average to one of all.
    """
    width, height = size
    out = np.empty((height, width, OUT), dtype=np.float32)
    marching = Marching(quality.step, quality.detail, sun_disc, ground, quality.footprint,
                        land, sky)

    def piece(tile: Tile) -> None:
        light, rays = march_tile(prepared, lens, marching, size, tile, quality, cancel,
                                 first_sample)
        out[tile.y0 : tile.y1, tile.x0 : tile.x1] = light
        if counted is not None:
            counted.append(rays)

    if quality.in_hand:
        rays = _march_in_hand(prepared, lens, marching, size, quality, workers, cancel,
                              first_sample, out)
        if counted is not None:
            counted.append(rays)
    else:
        _over_tiles(piece, size, workers, cancel, progress)
    if quality.calmed:
        calm(out, workers, VIEWS[lens.projection].joined)
    return out


def _march_in_hand(prepared: Prepared, lens: Lens, marching: Marching, size: tuple[int, int],
                   quality: Quality, workers: Workers, cancel: Cancel, sample: int,
                   out: NDArray[np.float32]) -> int:
    """One pixel of four and those along the horizon are marched, on all threads; whatever lies
    between is bridged in one piece, each by the marched ones next to it alone, so that no border
    of a tile asks for rays and no edge is toothed. `out` (height, width, 5) is filled; the number
    of rays. Raises Cancelled."""
    width, height = size
    whole = Tile(0, 0, width, height)
    out[:] = 0.0
    beside = widened(_horizon(prepared, lens, size, whole))
    first = every_fourth(height, width, 0, 0, sample)
    slanting = every_other(height, width, 0, 0, sample)  # of the others: between diagonal ones
    wanted = first | beside
    rays = [0]

    def strip(y: int) -> None:
        tile = Tile(0, y, width, min(y + HAND_ROWS, height))
        rows = np.s_[tile.y0 : tile.y1]
        rays.append(_add(prepared, lens, marching, size, tile, wanted[rows], sample, cancel,
                         out[rows]))

    list(workers.pool.map(strip, range(0, height, HAND_ROWS)))
    cancel.check()
    gaps, outside = np.empty_like(wanted), np.zeros_like(wanted)
    for bridged, way in ((slanting & (1 - wanted), 1), (1 - (slanting | wanted), 0)):
        bridge(out, first, bridged, way, quality.spread, gaps)
        outside |= gaps
    # Along the picture's rim some have no neighbour across: they are as the next one inward.
    for rim, inward in ((np.s_[:, 0], np.s_[:, 1]), (np.s_[:, -1], np.s_[:, -2]),
                        (np.s_[0], np.s_[1]), (np.s_[-1], np.s_[-2])):
        missing = outside[rim] != 0
        out[rim][missing] = out[inward][missing]
    return sum(rays)


def _over_tiles(piece: Callable[[Tile], None], size: tuple[int, int], workers: Workers,
                cancel: Cancel, progress: Callable[[int, int], None]) -> None:
    """Run `piece` on every tile of a picture, side by side. Raises Cancelled."""
    small = size[0] * size[1] < FEW_TILES * TILE_W * TILE_H
    tiles = tiles_of(*size, *(SMALL_TILE if small else (TILE_W, TILE_H)))
    done = [0]

    def one(tile: Tile) -> None:
        if cancel.is_set:
            return
        piece(tile)
        done[0] += 1
        progress(done[0], len(tiles))

    list(workers.pool.map(one, tiles))
    cancel.check()


def render_passes(
    prepared: Prepared,
    lens: Lens,
    size: tuple[int, int],
    quality: Quality,
    workers: Workers,
    cancel: Cancel,
    sun_disc: bool = True,
    ground: bool = True,
    progress: Callable[[int, int], None] = lambda done, total: None,
    land: bool = True,
    sky: bool = True,
) -> tuple[NDArray[np.float32], Passes]:
    """(height, width, 5) light as by `render_frame`, every ray marched, and its parts."""
    width, height = size
    out = np.empty((height, width, OUT), dtype=np.float32)
    sums = np.zeros((height, width, PASSES), dtype=np.float32)
    marching = Marching(quality.step, quality.detail, sun_disc, ground, quality.footprint,
                        land, sky)
    every = replace(quality, spread=0.0)

    def piece(tile: Tile) -> None:
        place = np.s_[tile.y0 : tile.y1, tile.x0 : tile.x1]
        out[place], _ = march_tile(prepared, lens, marching, size, tile, every, cancel,
                                   passes=sums[place])

    _over_tiles(piece, size, workers, cancel, progress)
    return out, passes_of(sums, quality.samples,
                          len(owners_of(b.layer.id for b in prepared.bodies)))


WHOLE_EYE_M = 15_000.0  # from here on the ground counts as much as the sky for the exposure
AIRY_M = 80_000.0  # height of air that still shows against the dark
WHOLE_HIGH = 2.1  # stops above middle grey up to which lit clouds come, seen from high up
UNLIT = 0.1  # of what is brightest: below it nothing counts as lit, from high up


class Metered(NamedTuple):
    """What the film settled on, in the order in which `develop` takes it."""

    ev: float
    kelvins: float
    contrast: float = 1.0
    saturation: float = 1.0
    curve: Curve = PLAIN
    glass: Glass = CLEAR

    def set_by(self, film: Film) -> Metered:
        """With what the document sets in place of what was metered."""
        return Metered(self.ev if film.exposure_ev is None else film.exposure_ev,
                       self.kelvins if film.white_balance_k is None else film.white_balance_k,
                       film.contrast, film.saturation, curve_of(film),
                       Glass(film.vignette, film.glow))

    def seen_in(self, view: str) -> Metered:
        """For a view: a lens is before the picture alone."""
        return self if view == "picture" else self._replace(glass=CLEAR)


def faces_planet(camera: Camera, radius: float) -> bool:
    """Whether a picture holds something of the planet or of the air about it (`radius` m)."""
    beyond = (radius + AIRY_M) / (radius + camera.altitude_m)
    if beyond >= 1.0:
        return True
    limb, lens = -math.sqrt(1.0 - beyond * beyond), picture_lens(camera)
    edge = np.linspace(0.0, 1.0, 13)
    return any(direction_at(lens, u, v)[2] <= limb for u in edge for v in edge)


def meter_sky(camera: Camera, prepared: Prepared, workers: Workers, cancel: Cancel,
              expose_for: str = "all", in_hand: bool = False) -> Metered:
    """Automatic exposure and white balance, metered on a small frame of the picture: on its sky,
    and the higher the eye the more on all that is lit in it; or on its light or its shade. Under
    a moving hand the frame is smaller."""
    quality = Quality("meter", prepared.fineness, 1, 2.2, 0.0, 0.3, 0.2, horizon=2)
    size = METER_SIZE
    if in_hand:
        quality, size = QUALITIES["hand"], METER_IN_HAND

    if not faces_planet(camera, prepared.scene.radius):  # all is dark: what is lit lies below
        camera = camera.model_copy(update={"pitch_deg": -90.0})

    def metered(ground: bool) -> float:
        frame = render_frame(prepared, picture_lens(camera), size, quality, workers, cancel,
                             sun_disc=False, ground=ground)
        luminance = frame[..., 1].astype(np.float64)
        counts = luminance > UNLIT * np.percentile(luminance, 99.0)
        if expose_for != "all":
            return meter_for(luminance, frame[..., ALPHA] > (-1.0 if ground else 0.5), expose_for)
        if not ground:
            return meter(luminance, frame[..., ALPHA] > 0.5)
        bright = float(np.percentile(luminance[counts], 98.0)) if counts.any() else 0.0
        held = math.log2(max(bright, 1e-7) / ISO_CONSTANT) - WHOLE_HIGH
        return max(meter(luminance, counts), held)

    whole = smooth((camera.altitude_m - HIGH_EYE_M) / (WHOLE_EYE_M - HIGH_EYE_M))
    ev = (1.0 - whole) * metered(ground=False) if whole < 1.0 else 0.0
    ev += whole * metered(ground=True) if whole > 0.0 else 0.0
    falling = np.zeros(3)
    for light in prepared.lights:
        air = light.atmosphere
        direct, diffuse = illuminances(air.media, air.sun, air.scattered, light.sun)
        falling += (direct + diffuse) * light.weight
    return Metered(round(ev, 2), round(automatic_white(falling)))


@stage("meter", wide=True)
def metered_scene(tools: Tools, prepared: Prepared, camera: Camera, expose_for: str,
                  in_hand: bool = False) -> Metered:
    """What a camera meters under a scene."""
    return meter_sky(camera, prepared, tools.workers, tools.cancel, expose_for, in_hand)
