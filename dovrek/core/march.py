"""The march: light along one line of sight through air and clouds.

A frozen scene of arrays goes in, XYZ radiance per pixel comes out (absolute, cd/m²).
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.density import (
    BASE,
    CIRRUS,
    CUMULUS,
    GRID_AT,
    GRID_DX,
    GRID_DZ,
    GRID_LEVELS,
    GRID_N,
    GRID_NZ,
    GRID_Z0,
    KIND,
    STEP,
    Z_HIGH,
    Z_LOW,
    Field,
    density,
)
from dovrek.core.kernels import kernel, solver
from dovrek.core.light_grid import CHANNELS, COARSER
from dovrek.core.noise import hash_unit
from dovrek.core.phase import G_SCALED, K_SCALED, Beam, beam_at, beam_row
from dovrek.core.sky_view import SkyView, air_between, sky_radiance
from dovrek.core.spans import ground_distance, layer_spans

LIGHT_HEIGHTS, LIGHT_SUNS = 41, 49
LIGHT_TOP_M, LIGHT_SPAN_RAD = 20_000.0, math.radians(5.0)
OPAQUE = 0.04
# Taps toward the sun: distance of each and the length it stands for, metres at 1500 m cells.
TAPS = ((9.0, 20.0), (34.0, 30.0), (82.0, 70.0))
TAPS_END = 120.0
STEPS_LIMIT = 4000
DEEP = 0.02  # the beam is spent: only smooth, many times scattered light is left
NEAR = 0.8  # steps in clear air beside a cloud, where its edge is to be met well
# Relief finer than the light grid's cells: scattered sunlight is a little stronger where the
# skin faces the sun and weaker in its crevices. By eye, mean about 1; not validated.
CREVICE_LOW, CREVICE_GAIN, CREVICE_FALL = 0.74, 0.48, 0.16

# What diffusion misses next to sunlit faces, mostly light turned a second time: an even source
# SECOND e^(−FALL K τ)/4π, for heaps and for sheets. And near the face a slanting ray enters by, a
# sheet is dimmer than diffusion says, for light that leaves nearly level must come from level
# light, which is scarce there: share 1 − LIMB e^(−t/LIMB_DEPTH) at a scaled depth t below the
# face, LIMB_SECOND of the second turns, which also lean forward a little. Fitted to the
# radiances of discrete ordinates for even slabs, together with `light_grid.sheet_shares`; the
# heaps' to the path tracer (docs/light.md).
SECOND_HEAP, FALL_HEAP = 0.58 / (4.0 * math.pi), 0.60
SECOND_SHEET, FALL_SHEET, LEAN_SHEET = 0.633 / (4.0 * math.pi), 0.791, 0.31
LIMB, LIMB_SECOND, LIMB_DEPTH = 0.423, 0.95, 0.334

# Channels of a rendered sample.
RED, GREEN, BLUE, ALPHA, DISTANCE = 0, 1, 2, 3, 4
OUT = 5


class Scene(NamedTuple):
    """All that rays meet; immutable while they march."""

    field: Field
    beam: Beam
    clear: SkyView
    light: NDArray[np.float32]  # flat light grids of all layers
    sunlight: NDArray[np.float64]  # (41, 49, 3) XYZ irradiance by height and sun elevation offset
    ambient: NDArray[np.float64]  # (L, 2, 3) XYZ radiance from above and below
    once_share: NDArray[np.float64]  # (L,) of light turned widely once: what is there
    ground: NDArray[np.float64]  # (2, 3) ground radiance from the sun's and from the sky's light
    sun: NDArray[np.float64]  # (3,) unit vector (true place)
    sun_disc: NDArray[np.float64]  # elevation, azimuth (apparent), radius, flattening
    sun_radiance: NDArray[np.float64]  # (3,) mean XYZ radiance of the disc behind the air
    radius: float  # planet at the ground, m
    height: float  # camera above the ground, m


class Lens(NamedTuple):
    """From pixels to directions."""

    projection: int  # 0 rectilinear, 1 equirectangular
    forward: NDArray[np.float64]
    right: NDArray[np.float64]
    up: NDArray[np.float64]
    half_width: float  # tangent of half the angle of view
    half_height: float
    centre: float  # azimuth of a dome's middle column, radians


class Marching(NamedTuple):
    """How finely to march."""

    step: float  # factor on all steps
    detail: int
    sun_disc: bool
    ground: bool


@kernel
def _grid_place(p, x, y, z, dither, place):
    """Where a point lies in a layer's grid: three fractions into `place`, returns the index of
    its lower corner's first channel. Levels change dithered, so that no ring shows."""
    n, nz, levels = int(p[GRID_N]), int(p[GRID_NZ]), int(p[GRID_LEVELS])
    dx = p[GRID_DX]
    reach = max(abs(x), abs(y)) * (1.0 + 0.25 * dither)
    half = (0.5 * n - 2.0) * dx
    level = 0
    while level < levels - 1 and reach > half:
        half *= COARSER
        dx *= COARSER
        level += 1
    a = min(max(x / dx + 0.5 * n - 0.5, 0.0), n - 1.001)
    b = min(max(y / dx + 0.5 * n - 0.5, 0.0), n - 1.001)
    c = min(max((z - p[GRID_Z0]) / p[GRID_DZ] - 0.5, 0.0), nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    place[0], place[1], place[2] = a - i, b - j, c - k
    return int(p[GRID_AT]) + (((level * n + i) * n + j) * nz + k) * CHANNELS


@kernel
def _grid_depth(light, p, x, y, z, dither, place):
    """Optical depth toward the sun at a point by trilinear look-up."""
    at = _grid_place(p, x, y, z, dither, place)
    dj = int(p[GRID_NZ]) * CHANNELS
    di = int(p[GRID_N]) * dj
    fa, fb, fc = place[0], place[1], place[2]
    low = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
           + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    at += CHANNELS
    high = ((light[at] * (1 - fb) + light[at + dj] * fb) * (1 - fa)
            + (light[at + di] * (1 - fb) + light[at + di + dj] * fb) * fa)
    return max(low * (1 - fc) + high * fc, 0.0)


@kernel
def _grid_lookup(light, p, x, y, z, dither, out):
    """Six light channels at a point by trilinear look-up into `out` (9,)."""
    at = _grid_place(p, x, y, z, dither, out[CHANNELS:])
    dj = int(p[GRID_NZ]) * CHANNELS
    di = int(p[GRID_N]) * dj
    fa, fb, fc = out[CHANNELS], out[CHANNELS + 1], out[CHANNELS + 2]
    w00, w01 = (1 - fa) * (1 - fb), (1 - fa) * fb
    w10, w11 = fa * (1 - fb), fa * fb
    for q in range(CHANNELS):
        low = (w00 * light[at + q] + w01 * light[at + dj + q]
               + w10 * light[at + di + q] + w11 * light[at + di + dj + q])
        m = at + CHANNELS
        high = (w00 * light[m + q] + w01 * light[m + dj + q]
                + w10 * light[m + di + q] + w11 * light[m + di + dj + q])
        out[q] = low * (1 - fc) + high * fc


@kernel
def sunlight_at(scene, x, y, h, out):
    """Irradiance (XYZ) of the sun above a place: its height and its own sun elevation count."""
    u = min(max(h / LIGHT_TOP_M, 0.0), 1.0) * (LIGHT_HEIGHTS - 1)
    offset = (x * scene.sun[0] + y * scene.sun[1]) / scene.radius
    v = (min(max(offset / LIGHT_SPAN_RAD, -1.0), 1.0) + 1.0) * 0.5 * (LIGHT_SUNS - 1)
    i, j = min(int(u), LIGHT_HEIGHTS - 2), min(int(v), LIGHT_SUNS - 2)
    fi, fj = u - i, v - j
    t = scene.sunlight
    for c in range(3):
        out[c] = ((t[i, j, c] * (1 - fj) + t[i, j + 1, c] * fj) * (1 - fi)
                  + (t[i + 1, j, c] * (1 - fj) + t[i + 1, j + 1, c] * fj) * fi)


@kernel
def _ground_light(scene, x, y, out, six):
    """Radiance of the ground at a place, with the shadow clouds cast on it."""
    depth = 0.0
    sz = scene.sun[2]
    if sz > 0.01:
        for l in range(scene.field.layers.shape[0]):
            p = scene.field.layers[l]
            rise = p[BASE] + p[GRID_Z0] + 0.7 * p[GRID_DZ]
            t = scene.radius * (math.sqrt(sz * sz + 2.0 * rise / scene.radius) - sz)
            # Each grid already counts the layers above its own.
            depth = max(depth, _grid_depth(
                scene.light, p, x + t * scene.sun[0], y + t * scene.sun[1],
                p[GRID_Z0] + 0.7 * p[GRID_DZ], 0.0, six))
    pass_sun = math.exp(-K_SCALED * depth)
    for c in range(3):
        out[c] = scene.ground[0, c] * pass_sun + scene.ground[1, c]


@kernel
def _step(p, t, r0, dz):
    """Step at a distance inside a layer. A veil gets about as many steps however slanting."""
    step = p[STEP] + 0.0024 * t
    if int(p[KIND]) == CIRRUS:
        slope = abs(r0 * dz + t) / r0
        step = max(step, p[STEP] / max(slope, 0.03))
    return step


@kernel
def sun_disc_share(scene, elevation, azimuth, pixel):
    """Share of the disc's mean radiance seen in a direction: limb darkening, soft by a pixel.

    Source of the darkening: Neckel & Labs 1994 at 550 nm as I/I0 = 0.3 + 0.93 µ − 0.23 µ².
    """
    e0, a0, radius, flat = (scene.sun_disc[0], scene.sun_disc[1], scene.sun_disc[2],
                            scene.sun_disc[3])
    turn = (azimuth - a0 + math.pi) % (2.0 * math.pi) - math.pi
    dx = turn * math.cos(e0)
    dy = (elevation - e0) / flat
    d = math.sqrt(dx * dx + dy * dy)
    soft = max(pixel, 1e-5)
    edge = min(max((radius - d) / soft + 0.5, 0.0), 1.0)
    if edge <= 0.0:
        return 0.0
    mu = math.sqrt(max(1.0 - min(d / radius, 1.0) ** 2, 0.0))
    return edge * (0.3 + 0.93 * mu - 0.23 * mu * mu) / 0.805


@kernel
def trace(scene, marching, dx, dy, dz, pixel_rad, random, stream, out, work):
    """Light along one ray from the camera.

    (dx, dy, dz) is a unit vector (east, north, up), `pixel_rad` the angle of a pixel, `random`
    0 … 1 shifts the samples, `stream` (an integer) picks their series. `out`: XYZ, alpha of
    everything before the sky, distance (m) of the first half of the cloud (0: none).
    `work` is scratch of 512 numbers.
    """
    field = scene.field
    starts, ends, owner = work[0:64], work[64:128], work[128:192]
    cuts = work[192:330]
    six = work[410:419]
    place3 = work[420:423]
    sun_xyz = work[336:339]
    scatter, passed = work[339:342], work[342:345]
    wi, wj = work[345:349], work[349:353]
    hits = work[353:355]
    total = work[355:358]
    batch = work[358:361]
    seen = work[361:364]
    latest = work[364:367]
    mark_f, mark_s = work[370:386], work[390:406]

    elevation = math.asin(min(max(dz, -1.0), 1.0))
    azimuth = math.atan2(dx, dy)
    cosine = min(max(dx * scene.sun[0] + dy * scene.sun[1] + dz * scene.sun[2], -1.0), 1.0)
    row = beam_row(math.acos(cosine))
    ground_t = ground_distance(scene.radius, scene.height, dz)
    limit = ground_t if ground_t > 0.0 else 1e9

    spans = layer_spans(field.layers, scene.radius, scene.height, dz,
                        min(limit, scene.clear.air_far_m), starts, ends, owner, cuts, hits)
    n_cuts = 2 * spans

    trans, trans_s, tau_view = 1.0, 1.0, 0.0
    for c in range(3):
        total[c] = 0.0
        batch[c] = 0.0
    weight, weight_t, last_t, half_t = 0.0, 0.0, 0.0, 0.0
    x = y = 0.0
    opaque = False
    steps = 0
    r0 = scene.radius + scene.height
    for q in range(n_cuts - 1):
        if opaque:
            break
        t, t_end = cuts[q], cuts[q + 1]
        if t_end - t < 0.5:
            continue
        active = 0
        middle = 0.5 * (t + t_end)
        for s in range(spans):
            if starts[s] <= middle < ends[s]:
                mark_f[active] = owner[s]
                active += 1
                if active == 16:
                    break
        if active == 0:
            continue
        tap_depth, near_depth, tap_age = 0.0, 0.0, 9
        sigma_last = 0.0
        while t < t_end and not opaque and steps < STEPS_LIMIT:
            steps += 1
            # The step is chosen before its sample is taken, and the sample lies anywhere in it:
            # the mean of σ·ds is then the optical depth itself, whatever the step's length.
            ds = 1e9
            for m in range(active):
                ds = min(ds, _step(field.layers[int(mark_f[m])], t, r0, dz))
            ds *= marching.step * (1.0 if sigma_last > 0.0 else NEAR)
            if trans < DEEP:
                ds *= 1.8
            if sigma_last > 1e-12:
                ds = min(ds, max((1.1 if trans > DEEP else 2.2) / sigma_last, 0.35 * ds))
            ds = min(ds, t_end - t)
            place = t + ds * ((random + hash_unit(steps, stream, 3)) % 1.0)
            footprint = pixel_rad * place
            h = math.sqrt(r0 * r0 + 2.0 * r0 * place * dz + place * place) - scene.radius
            x, y = place * dx, place * dy
            nearest = -1e9
            sigma_all = 0.0
            for m in range(active):
                l = int(mark_f[m])
                p = field.layers[l]
                f, sigma = density(field, l, x, y, h - p[BASE], 0.7 * footprint,
                                   marching.detail if trans > DEEP else 0)
                mark_s[m] = sigma
                sigma_all += sigma
                nearest = max(nearest, f)
            sigma_last = sigma_all
            if sigma_all > 1e-12:
                if weight > 1e-4 and place - last_t > 0.06 * place:
                    # A gap since the last cloud: settle its air before going on.
                    air_between(scene.clear, elevation, azimuth, cosine, weight_t / weight,
                                scatter, passed)
                    for c in range(3):
                        total[c] += batch[c] * passed[c] + weight * scatter[c]
                        batch[c] = 0.0
                    weight, weight_t = 0.0, 0.0
                last_t = place
                depth = sigma_all * ds
                e = math.exp(-depth)
                es = math.exp(-K_SCALED * depth)
                sunlight_at(scene, x, y, h, sun_xyz)
                gained = trans_s * (1.0 - es)
                for c in range(3):
                    latest[c] = 0.0
                for m in range(active):
                    sigma = mark_s[m]
                    if sigma <= 0.0:
                        continue
                    l = int(mark_f[m])
                    p = field.layers[l]
                    z = h - p[BASE]
                    share = sigma / sigma_all
                    kind = int(p[KIND])
                    if kind == CUMULUS and trans > DEEP:
                        if tap_age >= 1:
                            tap_age = 0
                            tap_depth = 0.0
                            for tap in range(3):
                                d = TAPS[tap][0] * (0.75 + 0.5 * random)
                                sg = density(field, l, x + d * scene.sun[0], y + d * scene.sun[1],
                                             z + d * scene.sun[2],
                                             max(0.3 * TAPS[tap][1], 0.7 * footprint),
                                             1 if tap == 0 else 0)[1]
                                tap_depth += sg * TAPS[tap][1]
                            near_depth = tap_depth
                        else:
                            tap_age += 1
                        _grid_lookup(scene.light, p, x, y, z, random, six)
                        j_sun, j_sky = six[1], six[2]
                        flux = -(six[3] * dx + six[4] * dy + six[5] * dz)
                        if tap_age == 0:
                            tap_depth += _grid_depth(
                                scene.light, p, x + TAPS_END * scene.sun[0],
                                y + TAPS_END * scene.sun[1], z + TAPS_END * scene.sun[2],
                                random, place3)
                        tau = tap_depth
                        second = SECOND_HEAP * math.exp(-FALL_HEAP * K_SCALED * tau)
                        j_sun *= CREVICE_LOW + CREVICE_GAIN * math.exp(-CREVICE_FALL * near_depth)
                    elif kind == CUMULUS:
                        _grid_lookup(scene.light, p, x, y, z, random, six)
                        j_sun, j_sky = six[1], six[2]
                        flux = -(six[3] * dx + six[4] * dy + six[5] * dz)
                        tau = six[0]
                        second = SECOND_HEAP * math.exp(-FALL_HEAP * K_SCALED * tau)
                    else:
                        _grid_lookup(scene.light, p, x, y, z, random, six)
                        c = abs(dz) / LIMB_DEPTH  # mean over the step, weighted as its light
                        near = trans_s**c
                        if es < 0.9999:
                            near *= (1.0 - es ** (1.0 + c)) / ((1.0 + c) * (1.0 - es))
                        limb = 1.0 - LIMB * near
                        j_sun, j_sky = six[1] * limb, six[2]
                        flux = -(six[3] * dx + six[4] * dy + six[5] * dz) * limb
                        j_sky = j_sky * limb if dz > 0.0 else 1.0 - (1.0 - j_sky) * limb
                        tau = max(six[0], 0.0)
                        second = SECOND_SHEET * (1.0 + LEAN_SHEET * cosine) * (
                            1.0 - LIMB_SECOND * near) * math.exp(-FALL_SHEET * K_SCALED * tau)
                    once = beam_at(scene.beam.once, row, tau + tau_view + 0.5 * depth)
                    narrow = beam_at(scene.beam.narrow, row, tau)
                    sun_light = (sigma * ds * once * scene.once_share[l]
                                 + share * (1.0 - e) * trans * narrow
                                 + share * gained * (
                                     max(0.0, j_sun + 3.0 * G_SCALED * flux) + second))
                    j_sky = min(max(j_sky, 0.0), 1.0)
                    up, down = share * gained * j_sky, share * gained * (1.0 - j_sky)
                    for c in range(3):
                        gain = (sun_light * sun_xyz[c] + up * scene.ambient[l, 0, c]
                                + down * scene.ambient[l, 1, c])
                        batch[c] += gain
                        latest[c] += gain
                weight += gained
                weight_t += gained * place
                trans *= e
                trans_s *= es
                tau_view += depth
                if half_t == 0.0 and trans_s < 0.5:
                    half_t = place
                if trans_s < OPAQUE:
                    # What little would still come is as bright as the deepest light met.
                    opaque = True
                    for c in range(3):
                        batch[c] += latest[c] * trans_s / gained
                    weight += trans_s
                    weight_t += trans_s * place
            t += ds
            if nearest < 0.0:  # nothing lies within the distance to the next surface
                t = max(t, place - 0.9 * nearest)
    if weight > 0.0:
        air_between(scene.clear, elevation, azimuth, cosine, weight_t / weight, scatter, passed)
        for c in range(3):
            total[c] += batch[c] * passed[c] + weight * scatter[c]
    if opaque:
        for c in range(3):
            out[c] = total[c]
        out[ALPHA] = 1.0
        out[DISTANCE] = half_t
        return
    alpha = 1.0 - trans_s
    if ground_t > 0.0:
        if marching.ground:
            air_between(scene.clear, elevation, azimuth, cosine, ground_t, scatter, passed)
            _ground_light(scene, ground_t * dx, ground_t * dy, seen, six)
            for c in range(3):
                total[c] += trans_s * (seen[c] * passed[c] + scatter[c])
            alpha = 1.0
    else:
        sky_radiance(scene.clear, elevation, azimuth, cosine, wi, wj, seen)
        for c in range(3):
            total[c] += trans_s * seen[c]
        alpha = 1.0
        if marching.sun_disc:
            disc = sun_disc_share(scene, elevation, azimuth, pixel_rad)
            if disc > 0.0:
                for c in range(3):
                    total[c] += trans * disc * scene.sun_radiance[c]
    for c in range(3):
        out[c] = total[c]
    out[ALPHA] = alpha
    out[DISTANCE] = half_t


@kernel
def ray_depth(field, radius, height, dx, dy, dz, factor, random, far):
    """Optical depth of all clouds along a ray from the camera, with the march's own steps.

    `factor` scales the steps: the result must not depend on it (Beer–Lambert).
    """
    total = 0.0
    ground = ground_distance(radius, height, dz)
    end = ground if ground > 0.0 else far
    r0 = radius + height
    t, sigma_last = 0.0, 0.0
    stream = int(random * 1e6)
    for k in range(100 * STEPS_LIMIT):
        if t >= end:
            break
        ds = 1e9
        for l in range(field.layers.shape[0]):
            ds = min(ds, _step(field.layers[l], t, r0, dz))
        ds *= factor * (1.0 if sigma_last > 0.0 else NEAR)
        if sigma_last > 1e-12:
            ds = min(ds, max(1.1 / sigma_last, 0.35 * ds))
        ds = min(ds, end - t)
        place = t + ds * ((random + hash_unit(k, stream, 3)) % 1.0)
        h = math.sqrt(r0 * r0 + 2.0 * r0 * place * dz + place * place) - radius
        nearest, sigma_all = -1e9, 0.0
        above_all = True
        for l in range(field.layers.shape[0]):
            p = field.layers[l]
            low, high = p[BASE] + p[Z_LOW], p[BASE] + p[Z_HIGH]
            if h < high or dz < 0.0:
                above_all = False
            if h < low or h > high:
                nearest = max(nearest, h - low if h < low else high - h)
                continue
            f, sigma = density(field, l, place * dx, place * dy, h - p[BASE], 0.0, 2)
            sigma_all += sigma
            nearest = max(nearest, f)
        if above_all:
            break
        total += sigma_all * ds
        sigma_last = sigma_all
        t += ds
        if nearest < 0.0:
            t = max(t, place - 0.9 * nearest)
    return total


@kernel
def direction(lens, u, v, out):
    """Unit vector (east, north, up) of a place in the frame, u and v from 0 to 1."""
    if lens.projection == 1:
        azimuth = lens.centre + (u - 0.5) * 2.0 * math.pi
        elevation = (0.5 - v) * math.pi
        ce = math.cos(elevation)
        out[0], out[1], out[2] = ce * math.sin(azimuth), ce * math.cos(azimuth), math.sin(elevation)
        return
    a = (2.0 * u - 1.0) * lens.half_width
    b = (1.0 - 2.0 * v) * lens.half_height
    norm = 1.0 / math.sqrt(1.0 + a * a + b * b)
    for c in range(3):
        out[c] = (lens.forward[c] + a * lens.right[c] + b * lens.up[c]) * norm


@solver
def march_pixels(scene, lens, marching, width, height, y0, x0, todo, sample, cancel, out):
    """Add one sample to the pixels of a tile that `todo` (h, w) marks.

    `cancel[0]` other than 0 ends it between rows. `out` is (h, w, 5) float32 sums of the tile
    whose corner is (x0, y0) of a picture of width × height; sample k shifts within the pixel and
    along the ray by the additive recurrence of the golden ratio (Roberts 2018).
    """
    ray, one, work = np.empty(3), np.empty(OUT), np.empty(512)
    if lens.projection == 1:
        pixel = math.pi / height
    else:
        pixel = 2.0 * lens.half_width / width
    jx = (0.5 + 0.7548776662466927 * sample) % 1.0
    jy = (0.5 + 0.5698402909980532 * sample) % 1.0
    for row in range(todo.shape[0]):
        if cancel[0] != 0:
            return
        y = y0 + row
        for column in range(todo.shape[1]):
            if todo[row, column] == 0:
                continue
            x = x0 + column
            # Interleaved gradient noise (Jimenez 2014) spreads the starts of neighbours.
            grain = (52.9829189 * ((0.06711056 * x + 0.00583715 * y) % 1.0)) % 1.0
            random = (grain + 0.6180339887498949 * sample) % 1.0
            direction(lens, (x + jx) / width, (y + jy) / height, ray)
            # Neighbours share a series, so that their grain stays fine; blocks do not, so that no
            # depth is always met at the same place in a step.
            stream = (y >> 2) * 8192 + (x >> 2) + 77_777_777 * sample
            trace(scene, marching, ray[0], ray[1], ray[2], pixel, random, stream, one, work)
            for c in range(OUT):
                out[row, column, c] += one[c]
