"""The slow truth: an unbiased path tracer in the same scene.

Free flights by delta tracking, light that reaches a point by ratio tracking, directions drawn
from the phase function; nothing is cached, scaled or smoothed. Cloud droplets absorb nothing, so
that a path carries one weight for all wavelengths; colour enters with the light, whose XYZ come
from the eight-wave tables of the air. What lies between camera and cloud is the march's own
aerial perspective; the air between two scatterings within clouds is left out, as in the march.
Level ground and land are Lambert surfaces that paths leave again, water sends them on by facets of
its waves; land shades what lies behind it. Rings of a halo are light of the sun turned at any
place.

Sources: Woodcock et al. 1965 (delta tracking); Novák, Selle & Jarosz 2014 (ratio tracking).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sky_looks import air_between, sky_radiance
from dovrek.core.air.sky_view import AIR_BELOW, SkyView
from dovrek.core.air.sunlight import sunlight_at
from dovrek.core.clouds.density import density
from dovrek.core.clouds.drape import lifted
from dovrek.core.clouds.phase import RINGS, halo_at
from dovrek.core.clouds.squares import BEYOND_M, ENDLESS, known_ahead
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, part, solver
from dovrek.core.geometry.planet import ground_distance
from dovrek.core.geometry.views import pixel_size, ray_of
from dovrek.core.geometry.views.view import Lens
from dovrek.core.land.meeting import CLEAR_M, land_normal
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.disc import sun_disc_share
from dovrek.core.transport.ground_tone import ground_tone
from dovrek.core.transport.land_light import land_tone
from dovrek.core.transport.land_shade import sun_clears_land
from dovrek.core.transport.look_ups import grid_depth
from dovrek.core.transport.paths import (
    foot_of,
    height_there,
    land_ahead,
    off_surface,
    phase_at,
    random,
    turn_by,
    upright,
)
from dovrek.core.transport.sample import ALPHA, DISTANCE, OUT
from dovrek.core.transport.scene import Scene
from dovrek.core.transport.scratch import PATH, SPANS
from dovrek.core.transport.spans import layer_spans, layers_at
from dovrek.core.transport.tones import BASE, BODY, LIT, tones
from dovrek.core.transport.traced_water import off_the_water, sun_on_water
from dovrek.core.transport.water import water_share

FAR_M = 1e9
TRUSTED = 0.6  # of a clear distance that a jump takes
ROULETTE = 0.25  # shadow rays weaker than this are thinned at random
TREAD_M = 1.0  # over which the ground's tone is averaged where a path meets it
DARK_GROUND = 0.35  # least chance of a path to go on from the ground
ROWS = 2  # of a picture between two looks at `cancel`


class Tracing(NamedTuple):
    """Which light is traced, and the surroundings as seen from each layer."""

    sun: bool
    sky: bool
    sun_disc: bool
    ground: bool
    horizons: NDArray[np.float64]  # (L + 1,): each layer's, then the ground's
    skies: NDArray[np.float32]  # (L + 1, …) as in SkyView
    airs: NDArray[np.float32]
    sun_azimuth: float
    far_m: float


@inner
def _flight(scene, at, ray, limit, ratio, state, path, spans):
    """Follow a ray through all layers.

    With `ratio` 0 a collision is drawn: its distance, or −1, with the layer met in `path`. With
    `ratio` 1 the transmittance up to `limit` is estimated. `at` is a place (m, tangent plane at the
    camera's ground point), `ray` a unit vector.
    """
    here, sigmas = path.here, path.sigmas
    layers = scene.field.layers
    rz = scene.radius + at[2]
    r0 = math.sqrt(at[0] * at[0] + at[1] * at[1] + rz * rz)
    h0 = (at[0] * at[0] + at[1] * at[1] + at[2] * (2.0 * scene.radius + at[2])) / (
        r0 + scene.radius)
    mu = (at[0] * ray[0] + at[1] * ray[1] + rz * ray[2]) / r0
    layer_spans(layers, scene.radius, h0, mu, limit, spans)
    through = 1.0
    for q in range(2 * spans.count - 1):
        t, t_end = spans.cuts[q], spans.cuts[q + 1]
        if t_end - t < 1e-6:
            continue
        active, most = layers_at(spans, 0.5 * (t + t_end), here), 0.0
        if active == 0:
            continue
        for m in range(active):
            most += layers[here[m]].most
        clear = True  # a look at the distance to cloud before the first flight
        while True:
            if not clear:
                t -= math.log(random(state)) / most
            if t >= t_end:
                break
            rise = 2.0 * r0 * t * mu + t * t
            h = h0 + rise / (math.sqrt(r0 * r0 + rise) + r0)
            x, y = foot_of(scene, at[0] + t * ray[0], at[1] + t * ray[1], at[2] + t * ray[2])
            nearest, total, known = -1e9, 0.0, ENDLESS
            for m in range(active):
                l = here[m]
                f, sigma = density(scene.field, l, x, y, h - layers[l].base, 0.0, 2.0)
                sigmas[m] = sigma
                total += sigma
                nearest = max(nearest, f)
                if f < 0.0:
                    known = min(known, known_ahead(scene.field, l, x, y, ray[0], ray[1]))
            if nearest < -2.0:  # nothing within this distance: go there, then fly on
                t += min(-TRUSTED * nearest, known + BEYOND_M)
                clear = True
                continue
            if clear:
                clear = False
                continue
            if ratio == 1:
                through *= 1.0 - min(total / most, 1.0)
                if through < ROULETTE:
                    if through <= 0.0 or random(state) > through / ROULETTE:
                        return 0.0
                    through = ROULETTE
            elif random(state) * most < total:
                pick = random(state) * total
                layer = here[active - 1]
                for m in range(active):
                    pick -= sigmas[m]
                    if pick <= 0.0:
                        layer = here[m]
                        break
                path.layer = layer
                return t
    return through if ratio == 1 else -1.0


@part
def _through_air(scene, tracing, ray, pixel, mu, cosine, seen_from, t, ground_t, path):
    """Light of the air on a stretch that starts at the camera or ends outside all cloud, into the
    path's total; True when the stretch ends in the sky."""
    view = scene.clear
    if seen_from >= 0:
        view = SkyView(tracing.horizons[seen_from], 0.5 * math.pi, tracing.sun_azimuth,
                       tracing.skies[seen_from], tracing.airs[seen_from], AIR_BELOW,
                       tracing.far_m, False, scene.radius, 0.0)
    light, tint, total, kept = path.light, path.tint, path.total, path.kept
    elevation = math.asin(clamp(mu, -1.0, 1.0))
    azimuth = math.atan2(ray[0], ray[1])
    airy = tracing.sky or seen_from < 0
    if t < 0.0 and ground_t <= 0.0:
        if airy:
            sky_radiance(view, elevation, azimuth, cosine, path.look, light)
            for c in range(3):
                wash = path.tones[BODY + c] if path.washed >= 0 else 1.0
                total[c] += tint[c] * wash * light[c]
            if seen_from < 0 and tracing.sun_disc:
                disc = sun_disc_share(scene, elevation, azimuth, pixel)
                for c in range(3):
                    total[c] += disc * scene.sun.radiance[c]
        return True
    reach = t if t >= 0.0 else ground_t
    air_between(view, elevation, azimuth, cosine, reach, path.look, path.away, kept)
    for c in range(3):
        if path.washed >= 0:
            tint[c] *= path.tones[BASE + c]
        total[c] += tint[c] * path.away[c] if airy else 0.0
        tint[c] *= kept[c]
    return False


@part
def _sun_reaches(scene, x, y, h, state, path, spans):
    """Share of sunlight that land and clouds let pass to the path's place, (x, y) along the ground
    from the camera's foot and `h` up."""
    if scene.land.squares > 0 and sun_clears_land(scene, x, y, h, random(state)) <= 0.0:
        return 0.0
    return _flight(scene, path.at, scene.sun.direction, FAR_M, 1, state, path, spans)


@part
def _off_the_ground(scene, tracing, ray, tread, state, path, spans):
    """Sunlight that level land or water sends back at the path's place, and whether the path goes
    on. `tread`: metres over which shores are averaged."""
    at, tint, up, sun = path.at, path.tint, path.normal, scene.sun.direction
    x, y = foot_of(scene, at[0], at[1], at[2])
    upright(at, scene.radius, up)
    high = sun[0] * up[0] + sun[1] * up[1] + sun[2] * up[2]
    through = 0.0
    if tracing.sun and high > 0.0:
        sunlight_at(scene.sunlight, sun, scene.radius, x, y, 0.0, path.light)
        through = _sun_reaches(scene, x, y, 0.0, state, path, spans)
    if scene.ground.water > 0.0:
        share, tone = water_share(scene, x, y, tread)
        if random(state) < share:
            if through > 0.0:
                sun_on_water(scene, ray, through, path)
            return off_the_water(scene, ray, state, path)
        for c in range(3):
            tint[c] *= tone * scene.ground.land[c]
    tone = ground_tone(scene, x, y, TREAD_M)
    for c in range(3):
        tint[c] *= tone
    if through > 0.0:
        for c in range(3):
            path.total[c] += (tint[c] * through * scene.ground.albedo[c] * high / math.pi
                              * path.light[c])
    goes_on = max(scene.ground.albedo[1], DARK_GROUND)
    if random(state) > goes_on:
        return False
    for c in range(3):
        tint[c] *= scene.ground.albedo[c] / goes_on
    off_surface(up, ray, state)
    path.washed = -2
    return True


@part
def _off_the_land(scene, tracing, ray, state, path, spans):
    """The same where the path meets the land: its slope, its own tint and picture."""
    at, tint, sun, normal = path.at, path.tint, scene.sun.direction, path.normal
    x, y = foot_of(scene, at[0], at[1], at[2])
    h = height_there(scene, at)
    land_normal(scene.land, scene.land_heights, x, y, normal)
    slope = normal[0] * sun[0] + normal[1] * sun[1] + normal[2] * sun[2]
    own = land_tone(scene, x, y, TREAD_M, path.light)
    for c in range(3):
        tint[c] *= scene.ground.albedo[c] * own * scene.ground.land[c] * path.light[c]
    sunlight_at(scene.sunlight, sun, scene.radius, x, y, h, path.light)
    if tracing.sun and slope > 0.0 and path.light[1] > 0.0:
        through = _sun_reaches(scene, x, y, h, state, path, spans)
        for c in range(3):
            path.total[c] += tint[c] * through * slope / math.pi * path.light[c]
    goes_on = clamp(scene.ground.albedo[1] * own * scene.ground.land[1], DARK_GROUND, 1.0)
    if random(state) > goes_on:
        return False
    for c in range(3):
        tint[c] /= goes_on
        at[c] += CLEAR_M * normal[c]
    off_surface(normal, ray, state)
    path.washed = -2
    return True


@part
def _sun_in_cloud(scene, p, cosine, state, path, spans):
    """Sunlight that cloud turns toward the path at its place."""
    at, light, sun = path.at, path.light, scene.sun.direction
    x, y = foot_of(scene, at[0], at[1], at[2])
    sunlight_at(scene.sunlight, sun, scene.radius, x, y, height_there(scene, at), light)
    if light[1] <= 0.0:
        return
    # Deep inside most shadow rays end at once: that costs no bias.
    through = _sun_reaches(scene, x, y, height_there(scene, at), state, path, spans)
    turned = phase_at(scene.lobes[p.phase], cosine)
    for c in range(3):
        gain = turned + p.halo * halo_at(math.acos(cosine), RINGS[c])
        wash = path.tones[LIT + c] if path.washed >= 0 else 1.0
        path.total[c] += path.tint[c] * wash * through * gain * light[c]


@inner
def _tinted(p):
    """Whether a layer has a wash that changes anything."""
    for c in range(3):
        if p.tint_lit[c] != 1.0 or p.tint_body[c] != 1.0 or p.tint_base[c] != 1.0:
            return True
    return p.styled != 0


@part
def _find_wash(scene, ray, footprint, state, path, spans):
    """Set the tones of the wash that tints the path from now on: those of the place that the ray
    sees. Most meetings send light on nearly as it came; the march passes over them, so that the
    ray, and only the ray, is followed to the first that counts; what shows through is not
    washed."""
    at, layers = path.at, scene.field.layers
    x0, y0, z0, first = at[0], at[1], at[2], path.layer
    path.washed = first
    while _tinted(layers[path.layer]) and random(state) > layers[path.layer].k_scaled:
        t = _flight(scene, at, ray, FAR_M, 0, state, path, spans)
        if t < 0.0:
            path.washed = -2
            break
        for k in range(3):
            at[k] += t * ray[k]
    if path.washed >= 0:
        p = layers[path.layer]
        x, y = foot_of(scene, at[0], at[1], at[2])
        h = height_there(scene, at)
        _, sigma = density(scene.field, path.layer, x, y, h - p.base, 0.0, 2.0)
        z = h - p.base - lifted(scene.field, p, x, y)
        depth = grid_depth(scene.light, p, x, y, z)
        tones(scene.field, p, x, y, z, sigma, depth, footprint, path.tones)
    at[0], at[1], at[2], path.layer = x0, y0, z0, first


@inner
def _path(scene, tracing, place, ray, pixel, state, out, path, spans):
    """One path from the camera (or from above `place` on a plan): XYZ, alpha, distance of the
    first collision into `out`. It ends in the sky; cloud and ground turn it."""
    at, sun = path.at, scene.sun.direction
    for c in range(3):
        path.total[c] = 0.0
        path.tint[c] = 1.0
    at[0], at[1], at[2] = place[0], place[1], scene.height
    out[ALPHA], out[DISTANCE] = 1.0, 0.0
    seen_from = -1  # the camera; later the layer or the ground that turned the path
    # The wash that tints a path is that of the place where its ray first meets a layer. What
    # clouds send to the ground and to each other keeps its own colour.
    path.washed = -1
    for _ in range(1_000_000):
        h = height_there(scene, at)
        rz = scene.radius + at[2]
        mu = (at[0] * ray[0] + at[1] * ray[1] + rz * ray[2]) / (scene.radius + h)
        ground_t = ground_distance(scene.radius, h, mu)
        met = land_ahead(scene, at, ray, h, mu, ground_t)
        if met >= 0.0:
            ground_t = max(met, 1e-3)
        limit = ground_t if ground_t > 0.0 else FAR_M
        if seen_from < 0:
            limit = min(limit, scene.clear.air_far_m)
        t = _flight(scene, at, ray, limit, 0, state, path, spans)
        cosine = clamp(ray[0] * sun[0] + ray[1] * sun[1] + ray[2] * sun[2], -1.0, 1.0)
        if t < 0.0 or seen_from < 0:
            if _through_air(scene, tracing, ray, pixel, mu, cosine, seen_from, t, ground_t, path):
                break
            if path.washed >= 0:
                path.washed = -2
        if t < 0.0:
            if seen_from < 0 and not tracing.ground:
                out[ALPHA] = 0.0
                for c in range(3):
                    path.total[c] = 0.0
                break
            for k in range(3):
                at[k] += ground_t * ray[k]
            if met >= 0.0:
                if not _off_the_land(scene, tracing, ray, state, path, spans):
                    break
            else:
                tread = TREAD_M if seen_from >= 0 else max(TREAD_M, pixel * ground_t)
                if not _off_the_ground(scene, tracing, ray, tread, state, path, spans):
                    break
            seen_from = len(scene.field.layers)  # the ground's place among the surroundings
            continue
        for k in range(3):
            at[k] += t * ray[k]
        if seen_from < 0:
            out[DISTANCE] = t
        seen_from = path.layer
        p = scene.field.layers[seen_from]
        if path.washed == -1:
            _find_wash(scene, ray, pixel * t, state, path, spans)
        if tracing.sun:
            _sun_in_cloud(scene, p, cosine, state, path, spans)
        turn_by(scene.lobes[p.phase], ray, state)
    for c in range(3):
        out[c] = path.total[c]


@solver
def _rows(scene, lens, tracing, width, height, y0, y1, x0, x1, samples, seed, cancel, out, squares):
    """Add paths for a tile: sums into `out` (h, w, 5), squares of luminance into `squares`."""
    place, ray, one = np.empty(2), np.empty(3), np.empty(OUT)
    # A record does not keep the array alive that it lies in: it is taken anew in the loop.
    paths, all_spans = np.zeros(1, PATH), np.zeros(1, SPANS)
    state = np.empty(1, dtype=np.uint64)
    pixel = pixel_size(lens, width, height)
    for y in range(y0, y1):
        for x in range(x0, x1):
            if cancel[0] != 0:
                return
            state[0] = np.uint64((seed * 8191 + y) * 16384 + x) * np.uint64(0xD1342543DE82EF95)
            for _ in range(samples):
                ray_of(lens, (x + random(state)) / width, (y + random(state)) / height, place,
                       ray)
                _path(scene, tracing, place, ray, pixel, state, one, paths[0], all_spans[0])
                for c in range(OUT):
                    out[y, x, c] += one[c]
                squares[y, x] += one[1] * one[1]


def tracing_of(views: list[SkyView], sun: bool = True, sky: bool = True,
               sun_disc: bool = False, ground: bool = True) -> Tracing:
    """Settings of a trace; `views` are the surroundings from the middle of each layer and then
    from the ground."""
    return Tracing(sun, sky, sun_disc, ground, np.array([v.horizon for v in views]),
                   np.stack([v.sky for v in views]), np.stack([v.air for v in views]),
                   views[0].sun_azimuth, views[0].air_far_m)


def trace_frame(
    scene: Scene,
    tracing: Tracing,
    lens: Lens,
    size: tuple[int, int],
    samples: int,
    workers: Workers,
    cancel: Cancel,
    seed: int = 1,
    progress: Callable[[int, int], None] = lambda done, total: None,
) -> tuple[NDArray[np.float32], NDArray[np.float64]]:
    """(h, w, 5) mean XYZ (cd/m²), alpha, distance; and the standard error of each luminance.

    Raises Cancelled. `samples` paths a pixel.
    """
    width, height = size
    out = np.zeros((height, width, OUT), dtype=np.float32)
    squares = np.zeros((height, width))
    spans = [(y, min(y + ROWS, height)) for y in range(0, height, ROWS)]
    done = [0]

    def piece(rows: tuple[int, int]) -> None:
        if not cancel.is_set:
            _rows(scene, lens, tracing, width, height, *rows, 0, width, samples, seed, cancel.flag,
                  out, squares)
            done[0] += 1
            progress(done[0], len(spans))

    list(workers.pool.map(piece, spans))
    cancel.check()
    out /= samples
    variance = np.maximum(squares / samples - out[..., 1].astype(np.float64) ** 2, 0.0)
    return out, np.sqrt(variance / max(samples - 1, 1))

