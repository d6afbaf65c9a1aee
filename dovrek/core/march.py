"""The march: light along one line of sight through air and clouds.

A frozen scene of arrays goes in, XYZ radiance per pixel comes out (absolute, cd/m²).
"""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.cloud_light import (
    from_below,
    grid_depth,
    grid_light,
    ground_light,
    sunlight_at,
)
from dovrek.core.density import (
    BASE,
    CIRRUS,
    CUMULUS,
    FALL,
    FALL_REACH,
    G_SCALED,
    GRID_DZ,
    GRID_Z0,
    HALO,
    K_SCALED,
    KIND,
    LIT,
    PHASE,
    RAIN_GROUND,
    RAIN_SHADE,
    SHADED,
    SIZE,
    STEP,
    UNDER,
    Z_HIGH,
    Z_LOW,
    density,
    falls_from,
)
from dovrek.core.kernels import clamp, inner, kernel, solver
from dovrek.core.lens import PLAN, pixel_size, ray_of
from dovrek.core.noise import hash_unit
from dovrek.core.passes import AIR, BACK, CLOUD, COVERED, FIRST, GROUND, HITS, MATTE, PASSES, SHADOW
from dovrek.core.phase import HALO_FALL, RINGS, beam_at, beam_row, halo_at
from dovrek.core.scene import ALPHA, DISTANCE, OUT
from dovrek.core.shadow_rays import SHARES, find_shadows, lit_share, taken
from dovrek.core.sky_view import air_parts, haze_phase, sky_parts
from dovrek.core.spans import ground_distance, layer_spans

OPAQUE = 0.04
SEEN = 0.99  # what passes once a cloud is there to be seen
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

# Steps through the height that rain falls; of the distance, what a step may miss of its shafts.
RAIN_STEPS, RAIN_FAR = 8.0, 0.03
RAIN_FACE = 0.78  # light at the base of a cloud, over that of its lowest cells
# Sine of the lowest sun, and the longest way, by which rain finds the cloud that shades it.
LOWEST_RAIN_SUN, RAIN_SHADE_M = 0.05, 30_000.0
WORK = 576  # numbers of scratch a ray needs
TILE = 63  # mask of the grain's places


@kernel
def _step(p, t, r0, dz, radius, longer):
    """Step at a distance inside a layer, `longer` than the basic one: (metres, whether in falling
    rain). A veil gets about as many steps however slanting."""
    step = longer * (p[STEP] + 0.0024 * t)
    if int(p[KIND]) == CIRRUS:
        slope = abs(r0 * dz + t) / r0
        return max(step, longer * p[STEP] / max(slope, 0.03)), False
    if p[FALL] <= 0.0:
        return step, False
    slope = (r0 * dz + t) / r0
    under = p[BASE] + falls_from(p) - (math.sqrt(r0 * r0 + 2.0 * r0 * t * dz + t * t) - radius)
    if under <= 0.0:
        return step, False
    # Rain is even: long steps, though not past the base, where clouds want short ones.
    far = p[FALL_REACH] / (RAIN_STEPS * max(abs(slope), 0.08))
    far = longer * min(far, max(0.7 * p[SIZE], RAIN_FAR * t))
    if slope > 0.0:
        far = min(far, under / slope + 0.3 * step)
    return max(step, far), True


@inner
def _below(p, sun, x, y, z, place):
    """Where falling rain at a point looks up its light: (x, y, z) of the lowest cells of its
    layer's grid on the way to the sun, into `place` (3,)."""
    lowest = p[GRID_Z0] + 0.7 * p[GRID_DZ]
    rise = min((lowest - z) / max(sun[2], LOWEST_RAIN_SUN), RAIN_SHADE_M)
    place[0], place[1], place[2] = x + sun[0] * rise, y + sun[1] * rise, lowest


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
    edge = clamp((radius - d) / soft + 0.5, 0.0, 1.0)
    if edge <= 0.0:
        return 0.0
    lit = scene.sun_disc[4]
    if lit < 1.0:  # the moon: its terminator is half an ellipse; no darkening to the limb
        c, s = math.cos(scene.sun_disc[5]), math.sin(scene.sun_disc[5])
        along, across = (dx * s + dy * c) / radius, (dx * c - dy * s) / radius
        limb = (1.0 - 2.0 * lit) * math.sqrt(max(1.0 - across * across, 0.0))
        return edge * clamp((along - limb) * radius / soft + 0.5, 0.0, 1.0) / max(lit, 1e-3)
    mu = math.sqrt(max(1.0 - min(d / radius, 1.0) ** 2, 0.0))
    return edge * (0.3 + 0.93 * mu - 0.23 * mu * mu) / 0.805


@inner
def _air(clear, shadow_rays, shares, elevation, azimuth, phase, distance, parts, scatter, passed):
    """In-scatter and transmittance of the air up to a distance, clouds' shadows in it."""
    air_parts(clear, elevation, azimuth, distance, parts)
    lit = lit_share(shares, distance) if shadow_rays else 1.0
    for c in range(3):
        scatter[c] = parts[c] + phase * lit * parts[3 + c]
        passed[c] = parts[6 + c]


@inner
def _taps(field, light, sun, l, x, y, z, random, footprint, place):
    """Optical depth toward the sun near a point of a heap and on to the next cell of its grid:
    (near, whole), by three looks at the density and the light grid beyond."""
    p = field.layers[l]
    sx, sy, sz = sun[0], sun[1], sun[2]
    near = 0.0
    for tap in range(3):
        middle, length = TAPS[tap]
        d = middle * (0.75 + 0.5 * random)
        _, sigma = density(field, l, x + d * sx, y + d * sy, z + d * sz,
                           max(0.3 * length, 0.7 * footprint), 1.0 if tap == 0 else 0.0)
        near += length * sigma
    return near, near + grid_depth(light, p, x + TAPS_END * sx, y + TAPS_END * sy,
                                   z + TAPS_END * sz, random, place)


@kernel
def trace(scene, marching, x0, y0, height, dx, dy, dz, pixel_m, pixel_rad, random, stream, out,
          passes, work):
    """Light along one ray.

    It starts `height` above the ground at (x0, y0) in the direction of the unit vector (dx, dy,
    dz) (east, north, up); a pixel is pixel_m + pixel_rad · distance wide. `random` 0 … 1 shifts
    the samples, `stream` (an integer) picks their series. `out`: XYZ, alpha of everything before
    the sky, distance (m) of the first half of the cloud (0: none). `passes` receives the parts of
    the light if it has room (`core/passes.py`). `work` is scratch of WORK numbers.
    """
    field = scene.field
    starts, ends, owner = work[0:64], work[64:128], work[128:192]
    cuts = work[192:330]
    hits = work[330:332]
    sun_xyz = work[336:339]
    scatter, passed = work[339:342], work[342:345]
    total = work[345:348]
    batch = work[348:351]
    seen = work[351:354]
    latest = work[354:357]
    mark_f, mark_s = work[360:376], work[376:392]
    matte = work[392:408]
    six = work[408:417]
    place3 = work[417:420]
    parts = work[420:429]
    wi, wj = work[429:433], work[433:437]
    ring = work[437:440]
    shares = work[440:440 + SHARES]
    with_passes = len(passes) > 0

    elevation = math.asin(clamp(dz, -1.0, 1.0))
    azimuth = math.atan2(dx, dy)
    cosine = clamp(dx * scene.sun[0] + dy * scene.sun[1] + dz * scene.sun[2], -1.0, 1.0)
    haze = haze_phase(cosine)
    theta = math.acos(cosine)
    row = beam_row(theta)
    for c in range(3):
        ring[c] = halo_at(theta, RINGS[c])
    ground_t = ground_distance(scene.radius, height, dz)
    limit = ground_t if ground_t > 0.0 else 1e9
    if scene.shadow_rays:
        find_shadows(scene, x0, y0, height, dx, dy, dz, elevation, azimuth, limit, random, shares,
                     parts, place3)

    spans = layer_spans(field.layers, scene.radius, height, dz,
                        min(limit, scene.clear.air_far_m), starts, ends, owner, cuts, hits)
    n_cuts = 2 * spans

    trans, trans_s, tau_view = 1.0, 1.0, 0.0
    for c in range(3):
        total[c] = 0.0
        batch[c] = 0.0
    weight, weight_t, last_t, half_t, first_t = 0.0, 0.0, 0.0, 0.0, 0.0
    seen_weight, seen_t = 0.0, 0.0
    if with_passes:
        for l in range(16):
            matte[l] = 0.0
    opaque = False
    steps = 0
    r0 = scene.radius + height
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
        # A veil, like rain, is even along a step: the same place in each gives the least noise.
        veiled = active == 1 and int(field.layers[int(mark_f[0])][KIND]) == CIRRUS
        while t < t_end and not opaque and steps < STEPS_LIMIT:
            steps += 1
            # The step is chosen before its sample is taken, and the sample lies anywhere in it:
            # the mean of σ·ds is then the optical depth itself, whatever the step's length.
            ds, even = 1e9, veiled
            longer = marching.step * (1.0 if sigma_last > 0.0 else NEAR)
            for m in range(active):
                one, rain = _step(field.layers[int(mark_f[m])], t, r0, dz, scene.radius, longer)
                ds = min(ds, one)
                even = even or (rain and active == 1)
            if trans < DEEP:
                ds *= 1.8
            if sigma_last > 1e-12:
                ds = min(ds, max((1.1 if trans > DEEP else 2.2) / sigma_last, 0.35 * ds))
            ds = min(ds, t_end - t)
            shift = random if even else (random + hash_unit(steps, stream, 3)) % 1.0
            place = t + ds * shift
            footprint = marching.footprint * (pixel_m + pixel_rad * place)
            h = math.sqrt(r0 * r0 + 2.0 * r0 * place * dz + place * place) - scene.radius
            x, y = x0 + place * dx, y0 + place * dy
            nearest = -1e9
            sigma_all, scaled_all = 0.0, 0.0
            for m in range(active):
                l = int(mark_f[m])
                p = field.layers[l]
                f, sigma = density(field, l, x, y, h - p[BASE], 0.7 * footprint,
                                   marching.detail if trans > DEEP else 0.0)
                mark_s[m] = sigma
                sigma_all += sigma
                scaled_all += p[K_SCALED] * sigma
                nearest = max(nearest, f)
            sigma_last = sigma_all
            if sigma_all > 1e-12:
                if weight > 1e-4 and place - last_t > 0.06 * place:
                    # A gap since the last cloud: settle its air before going on.
                    _air(scene.clear, scene.shadow_rays, shares, elevation, azimuth, haze,
                         weight_t / weight, parts, scatter, passed)
                    for c in range(3):
                        total[c] += batch[c] * passed[c] + weight * scatter[c]
                        batch[c] = 0.0
                    seen_weight += weight
                    seen_t += weight_t
                    weight, weight_t = 0.0, 0.0
                last_t = place
                depth = sigma_all * ds
                e = math.exp(-depth)
                es = math.exp(-scaled_all * ds)
                sunlight_at(scene.sunlight, scene.sun, scene.radius, x, y, h, sun_xyz)
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
                    k_s = p[K_SCALED]
                    share = sigma / sigma_all
                    share_s = k_s * sigma / scaled_all
                    rain = p[FALL] > 0.0 and z < falls_from(p)
                    if rain:
                        _below(p, scene.sun, x, y, z, place3)
                        grid_light(scene.light, p, place3[0], place3[1], place3[2], random, six)
                    else:
                        grid_light(scene.light, p, x, y, z, random, six)
                    j_sun, j_sky = six[1], six[2]
                    flux = -(six[3] * dx + six[4] * dy + six[5] * dz)
                    tau = max(six[0], 0.0)
                    second, under_cloud = 0.0, from_below(scene, l, x, y)
                    if rain:  # thin: the beam that gets there, what the cloud above lets down,
                        # and ground that lies in deeper shade than ground on the whole
                        open_share = math.exp(-k_s * tau)
                        j_sun, flux = RAIN_FACE * j_sun, 0.0
                        j_sky = 0.5 * open_share + RAIN_FACE * (1.0 - open_share) * j_sky
                        under_cloud = p[RAIN_GROUND] * (
                            RAIN_SHADE + (1.0 - RAIN_SHADE) * open_share)
                    elif int(p[KIND]) == CUMULUS:
                        if trans > DEEP:
                            if tap_age >= 1:
                                tap_age = 0
                                near_depth, tap_depth = _taps(
                                    field, scene.light, scene.sun, l, x, y, z, random, footprint,
                                    place3)
                            else:
                                tap_age += 1
                            tau = tap_depth
                            j_sun *= (CREVICE_LOW
                                      + CREVICE_GAIN * math.exp(-CREVICE_FALL * near_depth))
                        second = SECOND_HEAP * math.exp(-FALL_HEAP * k_s * tau)
                    else:
                        c = abs(dz) / LIMB_DEPTH  # mean over the step, weighted as its light
                        near = trans_s**c
                        if es < 0.9999:
                            near *= (1.0 - es ** (1.0 + c)) / ((1.0 + c) * (1.0 - es))
                        limb = 1.0 - LIMB * near
                        j_sun *= limb
                        flux *= limb
                        second = SECOND_SHEET * (1.0 + LEAN_SHEET * cosine) * (
                            1.0 - LIMB_SECOND * near) * math.exp(-FALL_SHEET * k_s * tau)
                    phase = int(p[PHASE])
                    once = beam_at(scene.beam.once, phase, row, tau + tau_view + 0.5 * depth, k_s)
                    narrow = beam_at(scene.beam.narrow, phase, row, tau, k_s)
                    sun_light = (sigma * ds * once * scene.once_share[l]
                                 + share * (1.0 - e) * trans * narrow
                                 + share_s * gained * (
                                     max(0.0, j_sun + 3.0 * p[G_SCALED] * flux) + second))
                    j_sky = clamp(j_sky, 0.0, 1.0)
                    up = share_s * gained * j_sky
                    down = share_s * gained * (1.0 - j_sky) * under_cloud
                    matte[l] += share_s * gained
                    haloed = p[HALO] * sigma * ds * math.exp(
                        -HALO_FALL * (tau + tau_view + 0.5 * depth))
                    for c in range(3):
                        gain = ((sun_light + haloed * ring[c]) * sun_xyz[c] * p[LIT + c]
                                + up * scene.ambient[l, 0, c] * p[SHADED + c]
                                + down * scene.ambient[l, 1, c] * p[UNDER + c])
                        batch[c] += gain
                        latest[c] += gain
                weight += gained
                weight_t += gained * place
                trans *= e
                trans_s *= es
                tau_view += depth
                if first_t == 0.0 and trans_s < SEEN:
                    first_t = place
                if half_t == 0.0 and trans_s < 0.5:
                    half_t = place
                if trans_s < OPAQUE:
                    # What little would still come is as bright as the deepest light met.
                    opaque = True
                    for c in range(3):
                        batch[c] += latest[c] * trans_s / gained
                    weight += trans_s
                    weight_t += trans_s * place
                    if with_passes:
                        for m in range(active):
                            l = int(mark_f[m])
                            matte[l] += (field.layers[l][K_SCALED] * mark_s[m] / scaled_all
                                         * trans_s)
                    trans_s = 0.0
            t += ds
            if nearest < 0.0:  # nothing lies within the distance to the next surface
                t = max(t, place - 0.9 * nearest)
    if weight > 0.0:
        _air(scene.clear, scene.shadow_rays, shares, elevation, azimuth, haze, weight_t / weight,
             parts, scatter, passed)
        for c in range(3):
            total[c] += batch[c] * passed[c] + weight * scatter[c]
        seen_weight += weight
        seen_t += weight_t
    if with_passes:
        for k in range(PASSES):
            passes[k] = 0.0
        for c in range(3):
            passes[CLOUD + c] = total[c]
        passes[COVERED] = 1.0 - trans_s
        if first_t > 0.0:
            passes[FIRST], passes[HITS] = first_t, 1.0
        for l in range(len(field.layers)):
            passes[MATTE + l] = matte[l]
    alpha = 1.0 - trans_s
    lit = 1.0
    for c in range(3):
        seen[c] = 0.0
    if ground_t > 0.0:
        if marching.ground and (with_passes or not opaque):
            _air(scene.clear, scene.shadow_rays, shares, elevation, azimuth, haze, ground_t, parts,
                 scatter, passed)
            lit = ground_light(scene, x0 + ground_t * dx, y0 + ground_t * dy, seen, place3)
            for c in range(3):
                seen[c] = seen[c] * passed[c] + scatter[c]
        if marching.ground:
            alpha = 1.0
    else:
        alpha = 1.0
        if with_passes or not opaque:
            sky_parts(scene.clear, elevation, azimuth, wi, wj, parts)
            for c in range(3):
                b = parts[3 + c]
                if scene.shadow_rays:
                    b -= taken(shares, c, b)
                seen[c] = parts[c] + haze * b + scene.glow[c]
            if marching.sun_disc:
                disc = sun_disc_share(scene, elevation, azimuth, pixel_rad)
                if disc > 0.0 and trans_s > 0.0:
                    # The disc shines through true extinction, the sky through the scaled one.
                    disc *= trans / trans_s
                    for c in range(3):
                        seen[c] += disc * scene.sun_radiance[c]
    for c in range(3):
        out[c] = total[c] + trans_s * seen[c]
    out[ALPHA] = alpha
    out[DISTANCE] = half_t
    if with_passes:
        for c in range(3):
            passes[BACK + c] = seen[c]
            if ground_t > 0.0 and marching.ground:
                passes[GROUND + c] = seen[c]
        passes[SHADOW] = lit
        reach = scene.clear.air_far_m
        if seen_weight > 0.0:
            reach = seen_t / seen_weight
        elif ground_t > 0.0:
            reach = ground_t
        air_parts(scene.clear, elevation, azimuth, reach, parts)
        for c in range(3):
            passes[AIR + c] = parts[6 + c]


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
        longer = factor * (1.0 if sigma_last > 0.0 else NEAR)
        for l in range(len(field.layers)):
            step, _ = _step(field.layers[l], t, r0, dz, radius, longer)
            ds = min(ds, step)
        if sigma_last > 1e-12:
            ds = min(ds, max(1.1 / sigma_last, 0.35 * ds))
        ds = min(ds, end - t)
        place = t + ds * ((random + hash_unit(k, stream, 3)) % 1.0)
        h = math.sqrt(r0 * r0 + 2.0 * r0 * place * dz + place * place) - radius
        nearest, sigma_all = -1e9, 0.0
        above_all = True
        for l in range(len(field.layers)):
            p = field.layers[l]
            low, high = p[BASE] + p[Z_LOW], p[BASE] + p[Z_HIGH]
            if h < high or dz < 0.0:
                above_all = False
            if h < low or h > high:
                nearest = max(nearest, h - low if h < low else high - h)
                continue
            f, sigma = density(field, l, place * dx, place * dy, h - p[BASE], 0.0, 2.0)
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


@solver
def march_pixels(scene, lens, marching, width, height, tile_y, tile_x, todo, sample, cancel, out,
                 passes):
    """Add one sample to the pixels of a tile that `todo` (h, w) marks.

    `cancel[0]` other than 0 ends it between rows. `out` is (h, w, 5) float32 sums of the tile
    whose corner is (tile_x, tile_y) of a picture of width × height, `passes` (h, w, PASSES) or
    empty; sample k shifts within the pixel and along the ray by the additive recurrence of the
    golden ratio (Roberts 2018).
    """
    place, ray, one, work = np.empty(2), np.empty(3), np.empty(OUT), np.empty(WORK)
    _, _, kept = passes.shape
    parts = np.empty(kept)
    rows, columns = todo.shape
    pixel = pixel_size(lens, width, height)
    pixel_m, pixel_rad = (pixel, 0.0) if lens.projection == PLAN else (0.0, pixel)
    jx = (0.5 + 0.7548776662466927 * sample) % 1.0
    jy = (0.5 + 0.5698402909980532 * sample) % 1.0
    for row in range(rows):
        if cancel[0] != 0:
            return
        y = tile_y + row
        for column in range(columns):
            if todo[row, column] == 0:
                continue
            x = tile_x + column
            random = (scene.grain[y & TILE, x & TILE] + 0.6180339887498949 * sample) % 1.0
            ray_of(lens, (x + jx) / width, (y + jy) / height, place, ray)
            # Neighbours share a series, so that their grain stays fine; blocks do not, so that no
            # depth is always met at the same place in a step.
            stream = (y >> 2) * 8192 + (x >> 2) + 77_777_777 * sample
            trace(scene, marching, place[0], place[1], scene.height, ray[0], ray[1], ray[2],
                  pixel_m, pixel_rad, random, stream, one, parts, work)
            for c in range(OUT):
                out[row, column, c] += one[c]
            for c in range(len(parts)):
                gain = parts[c]
                if BACK <= c < GROUND + 3:  # what shows between clouds counts as it shows
                    gain *= max(1.0 - parts[COVERED], 1e-6)
                passes[row, column, c] += gain
