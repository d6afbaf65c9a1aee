"""The march: light along one line of sight through air and clouds.

A frozen scene of arrays goes in, XYZ radiance per pixel comes out (absolute, cd/m²).
"""

from __future__ import annotations

import math

import numpy as np

from dovrek.core.air.sky_looks import PASSED, air_parts
from dovrek.core.air.sky_view import haze_phase
from dovrek.core.clouds.density import density
from dovrek.core.clouds.phase import RINGS, beam_row, halo_at
from dovrek.core.clouds.rain import falls_from
from dovrek.core.clouds.record import HEAPED, VEIL
from dovrek.core.clouds.squares import BEYOND_M, ENDLESS, known_ahead
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, part, solver
from dovrek.core.compile.noise import hash_unit
from dovrek.core.geometry.planet import arc_share, ground_distance
from dovrek.core.geometry.views import pixel_size, ray_of
from dovrek.core.land.meeting import LAND_FAR_M, land_distance
from dovrek.core.transport.backing import air_before, ground_behind, sky_behind
from dovrek.core.transport.cloud_light import DEEP, TAP_STALE, gather
from dovrek.core.transport.passes import (
    AIR,
    BACK,
    CLOUD,
    COVERED,
    FIRST,
    GROUND,
    HITS,
    LAND,
    MATTE,
    MET,
    MET_HITS,
    PASSES,
    SHADOW,
)
from dovrek.core.transport.sample import ALPHA, DISTANCE, OUT
from dovrek.core.transport.scratch import SHADOWS, SPANS, WALK
from dovrek.core.transport.shadow_rays import HIGH_SUN, find_shadows
from dovrek.core.transport.spans import layer_spans, layers_at

STEPS_LIMIT = 4000
# Of what water mirrors: what is too little to look for, how soft it is, its eye.
LEAST_MIRRORED, SPREAD_RAD, WATER_EYE_M = 2e-3, 0.01, 0.5
THROUGH_STEPS = 10.0  # through a layer's height at least
NEAR = 0.8  # steps in clear air beside a cloud, where its edge is to be met well
# Steps through the height that rain falls; of the distance, what a step may miss of its shafts.
RAIN_STEPS, RAIN_FAR = 8.0, 0.03
# How steps grow with the way, at most and by a pixel's angle; and by an edge of what is in sight,
# in pixels, down to the shortest in metres.
GROWS, GROWS_PIXELS = 0.0024, 1.7
CRISP, EDGE_PIXELS, LEAST_STEP = 0.35, 1.2, 2.5
NEAR_SURE = 20.0  # metres of clear air that need no check
TILE = 63  # mask of the grain's places
BLOCK, FAR_SERIES, FAR_ROW = 2, 77_777_777, 8192  # pixels (as a shift) that share a series


@kernel
def _step(p, t, r0, dz, radius, longer, grows):
    """Step at a distance inside a layer, `longer` than the basic one and growing with the way
    there: (metres, whether in falling rain). A veil gets about as many steps however slanting."""
    # However far, a layer seen from above is met some times on the way through it.
    through = (p.highest - p.lowest) / (THROUGH_STEPS * max(abs(r0 * dz + t) / radius, 0.01))
    step = longer * min(p.step + grows * t, max(p.step, through))
    if p.form == VEIL:
        slope = abs(r0 * dz + t) / radius
        return max(step, longer * p.step / max(slope, 0.03)), False
    if p.level_step > 0.0:
        slope = abs(r0 * dz + t) / radius
        return max(step, longer * min(p.step / max(slope, 0.01), p.level_step)), False
    if p.fall <= 0.0:
        return step, False
    slope = (r0 * dz + t) / radius
    under = p.base + falls_from(p) - (math.sqrt(r0 * r0 + 2.0 * r0 * t * dz + t * t) - radius)
    if under <= 0.0:
        return step, False
    # Rain is even: long steps, though not past the base, where clouds want short ones.
    far = p.fall_reach / (RAIN_STEPS * max(abs(slope), 0.08))
    far = longer * min(far, max(0.7 * p.cell_size, RAIN_FAR * t))
    if slope > 0.0:
        far = min(far, under / slope + 0.3 * step)
    return max(step, far), True


@inner
def _settle(scene, walk, shadows):
    """Put the air before the cloud that was met since the last time, and add both."""
    weight = walk.weight
    air_before(scene, walk, shadows, walk.weight_t / weight)
    for c in range(3):
        walk.total[c] += walk.batch[c] * walk.passed[c] + weight * walk.scatter[c]
        walk.batch[c] = 0.0
    walk.seen_weight += weight
    walk.seen_t += walk.weight_t
    walk.weight, walk.weight_t = 0.0, 0.0


@part
def _begin(scene, walk, spans, shadows):
    """What the ray's direction means, the stretches where cloud may be, and nothing gathered."""
    dx, dy, dz = walk.dx, walk.dy, walk.dz
    walk.level = math.sqrt(dx * dx + dy * dy)
    walk.elevation = math.asin(clamp(dz, -1.0, 1.0))
    walk.azimuth = math.atan2(dx, dy)
    sun = scene.sun.direction
    walk.cosine = clamp(dx * sun[0] + dy * sun[1] + dz * sun[2], -1.0, 1.0)
    walk.haze = haze_phase(walk.cosine)
    theta = math.acos(walk.cosine)
    walk.row = beam_row(theta)
    walk.ground_t = ground_distance(scene.radius, walk.height, dz)
    walk.limit = walk.ground_t if walk.ground_t > 0.0 else 1e9
    met = land_distance(scene.land, scene.land_heights, scene.land_peaks, scene.radius, walk.x0,
                        walk.y0, walk.height, dx, dy, dz, min(walk.limit, LAND_FAR_M))
    walk.on_land = 1 if met >= 0.0 else 0
    if met >= 0.0:
        walk.ground_t = max(met, 1e-3)
        walk.limit = walk.ground_t
    walk.r0 = scene.radius + walk.height
    shadows.far = 0.0
    if scene.shadow_rays or (scene.land.squares > 0 and walk.ground_t > 0.0
                             and sun[2] < HIGH_SUN):
        find_shadows(scene, walk.x0, walk.y0, walk.height, dx, dy, dz, walk.elevation,
                     walk.azimuth, walk.limit, walk.random, shadows, walk.parts)
    layer_spans(scene.field.layers, scene.radius, walk.height, dz,
                min(walk.limit, scene.clear.air_far_m), spans)
    for c in range(6):
        walk.day[c] = 1.0
    for c in range(3):
        walk.ring[c] = halo_at(theta, RINGS[c])
        walk.total[c], walk.batch[c], walk.behind[c] = 0.0, 0.0, 0.0
    walk.through, walk.through_scaled, walk.depth = 1.0, 1.0, 0.0
    walk.weight, walk.weight_t, walk.seen_weight, walk.seen_t = 0.0, 0.0, 0.0, 0.0
    walk.first_t, walk.half_t, walk.last_t = 0.0, 0.0, 0.0
    walk.opaque, walk.steps, walk.mirrored = 0, 0, 0.0
    for l in range(len(walk.matte)):
        walk.matte[l] = 0.0


@part
def _look(scene, marching, walk, place):
    """Density of the layers at a distance, into the walk, with how far ahead what they say of clear
    air holds; the nearest signed distance."""
    footprint = 0.7 * marching.footprint * (walk.pixel_m + walk.pixel_rad * place)
    r0 = walk.r0
    h = math.sqrt(r0 * r0 + 2.0 * r0 * place * walk.dz + place * place) - scene.radius
    way = place * arc_share(scene.radius, r0, place, walk.dz, walk.level)
    x, y = walk.x0 + way * walk.dx, walk.y0 + way * walk.dy
    detail = marching.detail if walk.through > DEEP else 0.0
    nearest, sigma_all, scaled_all, known = -1e9, 0.0, 0.0, ENDLESS
    for m in range(walk.active):
        l = walk.here[m]
        p = scene.field.layers[l]
        over = min(footprint, p.coarsest) if scene.clear.high else footprint
        f, sigma = density(scene.field, l, x, y, h - p.base, over, detail)
        walk.sigmas[m] = sigma
        sigma_all += sigma
        scaled_all += p.k_scaled * sigma
        nearest = max(nearest, f)
        if f < -NEAR_SURE:
            known = min(known, known_ahead(scene.field, l, x, y, walk.dx, walk.dy))
    walk.x, walk.y, walk.h, walk.known = x, y, h, known
    walk.sigma, walk.sigma_scaled, walk.sigma_last = sigma_all, scaled_all, sigma_all
    return nearest


@part
def _stretch(scene, marching, walk, shadows, t, t_end, with_passes):
    """March one stretch in which the same layers are active."""
    walk.tap_depth, walk.tap_near, walk.tap_age, walk.sigma_last = 0.0, 0.0, TAP_STALE, 0.0
    layers = scene.field.layers
    # A veil, like rain, is even along a step: the same place in each gives the least noise.
    veiled = walk.active == 1 and layers[walk.here[0]].form == VEIL
    heaped = False
    for m in range(walk.active):
        heaped = heaped or layers[walk.here[m]].form == HEAPED
    grows = min(GROWS, GROWS_PIXELS * walk.pixel_rad)
    near = -1e9  # signed distance of the last look to a surface; far until one was taken
    while t < t_end and walk.opaque == 0 and walk.steps < STEPS_LIMIT:
        walk.steps += 1
        # The step is chosen before its sample is taken, and the sample lies anywhere in it:
        # the mean of σ·ds is then the optical depth itself, whatever the step's length.
        ds, even = 1e9, veiled
        longer = marching.step * (1.0 if walk.sigma_last > 0.0 else NEAR)
        for m in range(walk.active):
            one, falling = _step(layers[walk.here[m]], t, walk.r0, walk.dz, scene.radius, longer,
                                 grows)
            ds = min(ds, one)
            even = even or (falling and walk.active == 1)
        deep = walk.through <= DEEP
        if walk.through < DEEP:
            ds *= 1.8
        if walk.sigma_last > 1e-12:
            ds = min(ds, max((2.2 if deep else 1.1) / walk.sigma_last, 0.35 * ds))
        if heaped and not (even or deep) and near > -ds and walk.through > CRISP:
            # An edge is near: it is met within a pixel's width or two.
            pixel = walk.pixel_m + walk.pixel_rad * t
            ds = min(ds, max(EDGE_PIXELS * marching.step * pixel, LEAST_STEP, -0.9 * near))
        ds = min(ds, t_end - t)
        shift = walk.random
        if not even:
            shift = (walk.random + hash_unit(walk.steps, walk.stream, 3)) % 1.0
        place = t + ds * shift
        nearest = _look(scene, marching, walk, place)
        near = nearest
        if walk.sigma > 1e-12:
            if walk.weight > 1e-4 and place - walk.last_t > 0.06 * place:
                _settle(scene, walk, shadows)  # a gap since the last cloud
            walk.last_t = place
            gather(scene, walk, place, ds,
                   marching.footprint * (walk.pixel_m + walk.pixel_rad * place), with_passes)
        t += ds
        if nearest < 0.0:  # nothing lies within the distance to the next surface
            t = max(t, place + min(-0.9 * nearest, walk.known + BEYOND_M))


@part
def _part(scene, walk, lit, kept, passes):
    """The parts of the light (`passes.Passes`); `kept`: the ground is no hole."""
    for k in range(PASSES):
        passes[k] = 0.0
    passes[COVERED] = 1.0 - walk.through_scaled
    if walk.first_t > 0.0:
        passes[FIRST], passes[HITS] = walk.first_t, 1.0
    for l in range(len(scene.field.layers)):
        passes[MATTE + scene.field.layers[l].matte_at] += walk.matte[l]
    passes[SHADOW] = lit
    if walk.ground_t > 0.0:
        passes[MET], passes[MET_HITS] = walk.ground_t, 1.0
        if walk.on_land != 0:
            passes[LAND] = walk.through_scaled
    reach = scene.clear.air_far_m
    if walk.seen_weight > 0.0:
        reach = walk.seen_t / walk.seen_weight
    elif walk.ground_t > 0.0:
        reach = walk.ground_t
    air_parts(scene.clear, walk.elevation, walk.azimuth, reach, walk.parts)
    for c in range(3):
        passes[CLOUD + c] = walk.total[c]
        passes[AIR + c] = walk.parts[PASSED + c]
        passes[BACK + c] = walk.behind[c]
        if walk.ground_t > 0.0 and kept:
            passes[GROUND + c] = walk.behind[c]


@inner
def trace(scene, marching, walk, spans, shadows, out, passes):
    """Light along one ray, which the first fields of `walk` give.

    `out`: XYZ, alpha of everything before the sky, distance (m) of the first half of the cloud
    (0: none). `passes` receives the parts of the light if it has room. `walk`, `spans` and
    `shadows` are scratch otherwise.
    """
    with_passes = len(passes) > 0
    _begin(scene, walk, spans, shadows)
    for q in range(2 * spans.count - 1):
        if walk.opaque != 0:
            break
        t, t_end = spans.cuts[q], spans.cuts[q + 1]
        if t_end - t < 0.5:
            continue
        walk.active = layers_at(spans, 0.5 * (t + t_end), walk.here)
        if walk.active > 0:
            _stretch(scene, marching, walk, shadows, t, t_end, with_passes)
    if walk.weight > 0.0:
        _settle(scene, walk, shadows)
    alpha, lit = 1.0, 1.0
    wanted = with_passes or walk.opaque == 0
    see_through = not marching.sky or (walk.ground_t > 0.0 and (
        not marching.ground or (walk.on_land != 0 and not marching.land)))
    if walk.ground_t <= 0.0 and marching.sky:
        if wanted:
            sky_behind(scene, marching, walk, shadows)
    elif see_through:
        alpha = 1.0 - walk.through_scaled
    elif wanted:
        lit = ground_behind(scene, walk, shadows)
    for c in range(3):
        out[c] = walk.total[c] + walk.through_scaled * walk.behind[c]
    out[ALPHA] = alpha
    out[DISTANCE] = walk.half_t
    if with_passes:
        _part(scene, walk, lit, not see_through, passes)


@inner
def _mirror(scene, marching, walk, second, spans, shadows, out, passes, light):
    """Add the sky and the clouds that water mirrors at the end of a ray; `second` and `light`
    (OUT,) are scratch."""
    sure = walk.through_scaled * walk.mirrored
    if sure < LEAST_MIRRORED:
        return
    rise = clamp(abs(walk.mirror_rise), 1e-3, 0.999)
    level = math.sqrt(1.0 - rise * rise) / max(walk.level, 1e-6)
    second.x0, second.y0, second.height = walk.mirror_x, walk.mirror_y, WATER_EYE_M
    second.dx, second.dy, second.dz = walk.dx * level, walk.dy * level, rise
    second.pixel_m, second.pixel_rad = 0.0, walk.pixel_rad + SPREAD_RAD
    second.random, second.stream = walk.random, walk.stream
    second.mirror = 1
    trace(scene, marching, second, spans, shadows, light, passes[:0])
    for c in range(3):
        gain = walk.mirrored * light[c] * walk.passed[c]
        out[c] += walk.through_scaled * gain
        if len(passes) > 0:
            passes[BACK + c] += gain
            passes[GROUND + c] += gain


@kernel
def ray_depth(field, radius, height, dx, dy, dz, factor, random, far):
    """Optical depth of all clouds along a ray from the camera, with the march's own steps.

    `factor` scales the steps: the result must not depend on it (Beer–Lambert). `height`, `radius`
    and `far` are metres.
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
            step, _ = _step(field.layers[l], t, r0, dz, radius, longer, GROWS)
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
            low, high = p.base + p.lowest, p.base + p.highest
            if h < high or dz < 0.0:
                above_all = False
            if h < low or h > high:
                nearest = max(nearest, h - low if h < low else high - h)
                continue
            f, sigma = density(field, l, place * dx, place * dy, h - p.base, 0.0, 2.0)
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
    place, ray, one = np.empty(2), np.empty(3), np.empty(OUT)
    # A record does not keep the array alive that it lies in: it is taken anew in the loop.
    walks, all_spans, all_shadows = np.zeros(2, WALK), np.zeros(1, SPANS), np.zeros(1, SHADOWS)
    _, _, kept = passes.shape
    parts, other = np.empty(kept), np.empty(OUT)
    rows, columns = todo.shape
    pixel = pixel_size(lens, width, height)
    jx = (0.5 + 0.7548776662466927 * sample) % 1.0
    jy = (0.5 + 0.5698402909980532 * sample) % 1.0
    for row in range(rows):
        if cancel[0] != 0:
            return
        y = tile_y + row
        for column in range(columns):
            if todo[row, column] == 0:
                continue
            x, walk = tile_x + column, walks[0]
            walk.pixel_m, walk.pixel_rad = (pixel, 0.0) if lens.in_metres else (0.0, pixel)
            walk.random = (scene.grain[y & TILE, x & TILE] + 0.6180339887498949 * sample) % 1.0
            ray_of(lens, (x + jx) / width, (y + jy) / height, place, ray)
            walk.x0, walk.y0, walk.height = place[0], place[1], scene.height
            walk.dx, walk.dy, walk.dz = ray[0], ray[1], ray[2]
            # Neighbours share a series, so that their grain stays fine; blocks do not, so that no
            # depth is always met at the same place in a step.
            walk.stream = (y >> BLOCK) * FAR_ROW + (x >> BLOCK) + FAR_SERIES * sample
            walk.mirror = 0
            trace(scene, marching, walk, all_spans[0], all_shadows[0], one, parts)
            if walk.mirrored > 0.0:
                _mirror(scene, marching, walk, walks[1], all_spans[0], all_shadows[0], one, parts,
                        other)
            for c in range(OUT):
                out[row, column, c] += one[c]
            for c in range(len(parts)):
                gain = parts[c]
                if BACK <= c < GROUND + 3:  # what shows between clouds counts as it shows
                    gain *= max(1.0 - parts[COVERED], 1e-6)
                passes[row, column, c] += gain
