"""The slow truth: an unbiased path tracer in the same scene.

Free flights by delta tracking, light that reaches a point by ratio tracking, directions drawn
from the phase function; nothing is cached, scaled or smoothed. Cloud droplets absorb nothing, so
that a path carries one weight for all wavelengths; colour enters with the light, whose XYZ come
from the eight-wave tables of the air. What lies between camera and cloud is the march's own
aerial perspective; the air between two scatterings within clouds is left out, as in the march.

Sources: Woodcock et al. 1965 (delta tracking); Novák, Selle & Jarosz 2014 (ratio tracking).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.density import BASE, CIRRUS, FRAY, KIND, SIGMA, density
from dovrek.core.kernels import henyey_greenstein, kernel, solver
from dovrek.core.march import (
    ALPHA,
    DISTANCE,
    OUT,
    Lens,
    Scene,
    direction,
    sun_disc_share,
    sunlight_at,
)
from dovrek.core.phase import LOBES
from dovrek.core.prepare import Prepared
from dovrek.core.sky_view import SkyView, air_between, sky_radiance
from dovrek.core.spans import ground_distance, layer_spans
from dovrek.core.stages import Cancel, Workers

(W0, G0), (W1, G1), (W2, G2) = LOBES
FAR_M = 1e9
TRUSTED = 0.6  # of a clear distance that a jump takes
ROULETTE = 0.25  # shadow rays weaker than this are thinned at random
ROWS = 2  # of a picture between two looks at `cancel`


class Tracing(NamedTuple):
    """Which light is traced, and the surroundings as seen from each layer."""

    sun: bool
    sky: bool
    sun_disc: bool
    ground: bool
    horizons: NDArray[np.float64]  # (L,)
    skies: NDArray[np.float32]  # (L, …) as in SkyView
    airs: NDArray[np.float32]
    sun_azimuth: float
    far_m: float


@kernel
def _random(state):
    """Next number in 0 … 1 of a 64-bit counter, mixed. Source: Steele, Lea & Flood 2014."""
    state[0] += np.uint64(0x9E3779B97F4A7C15)
    z = state[0]
    z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    z = z ^ (z >> np.uint64(31))
    return (float(z >> np.uint64(11)) + 0.5) * (1.0 / 9007199254740992.0)


@kernel
def _most(p):
    """Extinction that a layer nowhere exceeds, 1/m."""
    if int(p[KIND]) == CIRRUS:
        texture = 1.0 + 3.6 * p[FRAY]
        return p[SIGMA] * texture * (0.4 + 0.6 * texture)
    return p[SIGMA]


@kernel
def _flight(scene, at, ray, limit, ratio, state, work):
    """Follow a ray through all layers.

    With `ratio` 0 a collision is drawn: its distance, or −1, with the layer met in work[400]. With
    `ratio` 1 the transmittance up to `limit` is estimated. `at` is a place (m, tangent plane at the
    camera's ground point), `ray` a unit vector.
    """
    starts, ends, owner, cuts = work[0:64], work[64:128], work[128:192], work[192:324]
    hits, here, sigmas = work[324:326], work[326:342], work[342:358]
    layers = scene.field.layers
    rz = scene.radius + at[2]
    r0 = math.sqrt(at[0] * at[0] + at[1] * at[1] + rz * rz)
    h0 = (at[0] * at[0] + at[1] * at[1] + at[2] * (2.0 * scene.radius + at[2])) / (
        r0 + scene.radius)
    mu = (at[0] * ray[0] + at[1] * ray[1] + rz * ray[2]) / r0
    spans = layer_spans(layers, scene.radius, h0, mu, limit, starts, ends, owner, cuts, hits)
    through = 1.0
    for q in range(2 * spans - 1):
        t, t_end = cuts[q], cuts[q + 1]
        if t_end - t < 1e-6:
            continue
        middle = 0.5 * (t + t_end)
        active, most = 0, 0.0
        for s in range(spans):
            if starts[s] <= middle < ends[s] and active < 16:
                here[active] = owner[s]
                most += _most(layers[int(owner[s])])
                active += 1
        if active == 0:
            continue
        clear = True  # a look at the distance to cloud before the first flight
        while True:
            if not clear:
                t -= math.log(_random(state)) / most
            if t >= t_end:
                break
            rise = 2.0 * r0 * t * mu + t * t
            h = h0 + rise / (math.sqrt(r0 * r0 + rise) + r0)
            x, y = at[0] + t * ray[0], at[1] + t * ray[1]
            nearest, total = -1e9, 0.0
            for m in range(active):
                l = int(here[m])
                f, sigma = density(scene.field, l, x, y, h - layers[l][BASE], 0.0, 2)
                sigmas[m] = sigma
                total += sigma
                nearest = max(nearest, f)
            if nearest < -2.0:  # nothing within this distance: go there, then fly on
                t -= TRUSTED * nearest
                clear = True
                continue
            if clear:
                clear = False
                continue
            if ratio == 1:
                through *= 1.0 - min(total / most, 1.0)
                if through < ROULETTE:
                    if through <= 0.0 or _random(state) > through / ROULETTE:
                        return 0.0
                    through = ROULETTE
            elif _random(state) * most < total:
                pick = _random(state) * total
                layer = int(here[active - 1])
                for m in range(active):
                    pick -= sigmas[m]
                    if pick <= 0.0:
                        layer = int(here[m])
                        break
                work[400] = layer
                return t
    return through if ratio == 1 else -1.0


@kernel
def _turn(ray, state):
    """Draw a new direction from the phase function."""
    u = _random(state)
    g = G0 if u < W0 else (G1 if u < W0 + W1 else G2)
    s = (1.0 - g * g) / (1.0 - g + 2.0 * g * _random(state))
    cosine = min(max((1.0 + g * g - s * s) / (2.0 * g), -1.0), 1.0)
    sine = math.sqrt(max(1.0 - cosine * cosine, 0.0))
    phi = 2.0 * math.pi * _random(state)
    a, b = sine * math.cos(phi), sine * math.sin(phi)
    x, y, z = ray[0], ray[1], ray[2]
    # A frame about the ray without branches at its poles. Source: Duff et al. 2017.
    sign = 1.0 if z >= 0.0 else -1.0
    c = -1.0 / (sign + z)
    d = x * y * c
    ray[0] = a * (1.0 + sign * x * x * c) + b * d + cosine * x
    ray[1] = a * sign * d + b * (sign + y * y * c) + cosine * y
    ray[2] = -a * sign * x - b * y + cosine * z
    norm = 1.0 / math.sqrt(ray[0] ** 2 + ray[1] ** 2 + ray[2] ** 2)
    for k in range(3):
        ray[k] *= norm


@kernel
def _phase(cosine):
    return (W0 * henyey_greenstein(cosine, G0) + W1 * henyey_greenstein(cosine, G1)
            + W2 * henyey_greenstein(cosine, G2))


@kernel
def _height(scene, at):
    rz = scene.radius + at[2]
    r = math.sqrt(at[0] * at[0] + at[1] * at[1] + rz * rz)
    return (at[0] * at[0] + at[1] * at[1] + at[2] * (2.0 * scene.radius + at[2])) / (
        r + scene.radius)


@kernel
def _ground(scene, tracing, at, state, light, work):
    """Radiance of the ground at a place: the sun by ratio tracking, the sky as the march has it."""
    through = 0.0
    if tracing.sun and scene.sun[2] > 0.0:
        through = _flight(scene, at, scene.sun, FAR_M, 1, state, work)
    for c in range(3):
        light[c] = scene.ground[0, c] * through + (scene.ground[1, c] if tracing.sky else 0.0)


@kernel
def _path(scene, tracing, ray, pixel, state, out, work):
    """One path from the camera: XYZ, alpha, distance of the first collision into `out`."""
    at, flown, light = work[410:413], work[413:416], work[416:419]
    scatter, passed = work[419:422], work[422:425]
    wi, wj, total = work[425:429], work[429:433], work[433:436]
    for c in range(OUT):
        out[c] = 0.0
    at[0], at[1], at[2] = 0.0, 0.0, scene.height
    elevation = math.asin(min(max(ray[2], -1.0), 1.0))
    azimuth = math.atan2(ray[0], ray[1])
    cosine = ray[0] * scene.sun[0] + ray[1] * scene.sun[1] + ray[2] * scene.sun[2]
    ground_t = ground_distance(scene.radius, scene.height, ray[2])
    limit = min(ground_t if ground_t > 0.0 else FAR_M, scene.clear.air_far_m)
    t = _flight(scene, at, ray, limit, 0, state, work)
    if t < 0.0:
        if ground_t > 0.0:
            if not tracing.ground:
                return
            for k in range(3):
                flown[k] = ray[k] * ground_t
            flown[2] += scene.height
            _ground(scene, tracing, flown, state, light, work)
            air_between(scene.clear, elevation, azimuth, cosine, ground_t, scatter, passed)
            for c in range(3):
                out[c] = light[c] * passed[c] + scatter[c]
        else:
            sky_radiance(scene.clear, elevation, azimuth, cosine, wi, wj, light)
            disc = sun_disc_share(scene, elevation, azimuth, pixel) if tracing.sun_disc else 0.0
            for c in range(3):
                out[c] = light[c] + disc * scene.sun_radiance[c]
        out[ALPHA] = 1.0
        return
    air_between(scene.clear, elevation, azimuth, cosine, t, scatter, passed)
    for c in range(3):
        total[c] = 0.0
    first = t
    bounce = 0
    while bounce < 1_000_000:
        bounce += 1
        for k in range(3):
            at[k] += t * ray[k]
        layer = int(work[400])
        cosine = ray[0] * scene.sun[0] + ray[1] * scene.sun[1] + ray[2] * scene.sun[2]
        if tracing.sun:
            sunlight_at(scene, at[0], at[1], _height(scene, at), light)
            if light[1] > 0.0:
                # Deep inside most shadow rays end at once: that costs no bias.
                through = _flight(scene, at, scene.sun, FAR_M, 1, state, work)
                if through > 0.0:
                    gain = through * _phase(min(max(cosine, -1.0), 1.0))
                    for c in range(3):
                        total[c] += gain * light[c]
        _turn(ray, state)
        h = _height(scene, at)
        rz = scene.radius + at[2]
        mu = (at[0] * ray[0] + at[1] * ray[1] + rz * ray[2]) / (scene.radius + h)
        ground_t = ground_distance(scene.radius, h, mu)
        t = _flight(scene, at, ray, ground_t if ground_t > 0.0 else FAR_M, 0, state, work)
        if t >= 0.0:
            continue
        view = SkyView(tracing.horizons[layer], tracing.sun_azimuth, tracing.skies[layer],
                       tracing.airs[layer], tracing.far_m)
        elevation = math.asin(min(max(mu, -1.0), 1.0))
        azimuth = math.atan2(ray[0], ray[1])
        cosine = ray[0] * scene.sun[0] + ray[1] * scene.sun[1] + ray[2] * scene.sun[2]
        cosine = min(max(cosine, -1.0), 1.0)
        if ground_t > 0.0:
            for k in range(3):
                flown[k] = at[k] + ray[k] * ground_t
            _ground(scene, tracing, flown, state, light, work)
            air_between(view, elevation, azimuth, cosine, ground_t, wi[:3], wj[:3])
            for c in range(3):
                total[c] += light[c] * wj[c] + (wi[c] if tracing.sky else 0.0)
        elif tracing.sky:
            sky_radiance(view, elevation, azimuth, cosine, wi, wj, light)
            for c in range(3):
                total[c] += light[c]
        break
    for c in range(3):
        out[c] = total[c] * passed[c] + scatter[c]
    out[ALPHA] = 1.0
    out[DISTANCE] = first


@solver
def _rows(scene, lens, tracing, width, height, y0, y1, x0, x1, samples, seed, cancel, out, squares):
    """Add paths for a tile: sums into `out` (h, w, 5), squares of luminance into `squares`."""
    ray, one, work = np.empty(3), np.empty(OUT), np.zeros(512)
    state = np.empty(1, dtype=np.uint64)
    pixel = math.pi / height if lens.projection == 1 else 2.0 * lens.half_width / width
    for y in range(y0, y1):
        for x in range(x0, x1):
            if cancel[0] != 0:
                return
            state[0] = np.uint64((seed * 8191 + y) * 16384 + x) * np.uint64(0xD1342543DE82EF95)
            for _ in range(samples):
                direction(lens, (x + _random(state)) / width, (y + _random(state)) / height, ray)
                _path(scene, tracing, ray, pixel, state, one, work)
                for c in range(OUT):
                    out[y, x, c] += one[c]
                squares[y, x] += one[1] * one[1]


def tracing_of(prepared: Prepared, views: list[SkyView], sun: bool = True, sky: bool = True,
               sun_disc: bool = False, ground: bool = True) -> Tracing:
    """Settings of a trace; `views` are the surroundings from the middle of each layer."""
    some = views or [prepared.scene.clear]
    return Tracing(sun, sky, sun_disc, ground, np.array([v.horizon for v in some]),
                   np.stack([v.sky for v in some]), np.stack([v.air for v in some]),
                   some[0].sun_azimuth, some[0].air_far_m)


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

