"""Light that cloud sends along a ray from one step of the march (docs/light.md)."""

from __future__ import annotations

import math

from dovrek.core.air.sunlight import sunlight_at
from dovrek.core.clouds.density import density
from dovrek.core.clouds.drape import lifted
from dovrek.core.clouds.light.grid import DEPTH, FLUX_X, FLUX_Y, FLUX_Z, SKY_J, SUN_J
from dovrek.core.clouds.phase import HALO_FALL, beam_at
from dovrek.core.clouds.rain import RAIN_SHADE, falls_from
from dovrek.core.clouds.record import HEAPED
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import part
from dovrek.core.transport.look_ups import (
    day_there,
    from_below,
    grid_depth,
    grid_light,
)
from dovrek.core.transport.tones import BASE, BODY, LIT, tones

OPAQUE = 0.04
SEEN = 0.99  # what passes once a cloud is there to be seen
DEEP = 0.02  # the beam is spent: only smooth, many times scattered light is left
# Taps toward the sun: distance of each and the length it stands for, metres at 1500 m cells.
TAPS = ((9.0, 20.0), (34.0, 30.0), (82.0, 70.0))
TAPS_END = 120.0
TAP_STALE = 9  # steps after which taps are of no use
# Relief finer than the light grid's cells: scattered sunlight is a little stronger where the
# skin faces the sun and weaker in its crevices. By eye, mean about 1; not validated.
CREVICE_LOW, CREVICE_GAIN, CREVICE_FALL = 0.74, 0.48, 0.16

# What diffusion misses next to sunlit faces, mostly light turned a second time: an even source
# SECOND e^(−FALL K τ)/4π, for heaps and for sheets. And near the face a slanting ray enters by, a
# sheet is dimmer than diffusion says, for light that leaves nearly level must come from level
# light, which is scarce there: share 1 − LIMB e^(−t/LIMB_DEPTH) at a scaled depth t below the
# face, LIMB_SECOND of the second turns, which also lean forward a little. Fitted to the
# radiances of discrete ordinates for even slabs, together with `solve.sheet_shares`; the
# heaps' to the path tracer (docs/light.md).
SECOND_HEAP, FALL_HEAP = 0.58 / (4.0 * math.pi), 0.60
SECOND_SHEET, FALL_SHEET, LEAN_SHEET = 0.633 / (4.0 * math.pi), 0.791, 0.31
LIMB, LIMB_SECOND, LIMB_DEPTH = 0.423, 0.95, 0.334

RAIN_FACE = 0.78  # light at the base of a cloud, over that of its lowest cells
# Sine of the lowest sun, and the longest way, by which rain finds the cloud that shades it.
LOWEST_RAIN_SUN, RAIN_SHADE_M = 0.05, 30_000.0


@part
def _below(p, sun, x, y, z, place):
    """Where falling rain at a point looks up its light: (x, y, z) of the lowest cells of its
    layer's grid on the way to the sun, into `place` (3,)."""
    lowest = p.grid_z0 + 0.7 * p.grid_dz
    rise = min((lowest - z) / max(sun[2], LOWEST_RAIN_SUN), RAIN_SHADE_M)
    place[0], place[1], place[2] = x + sun[0] * rise, y + sun[1] * rise, lowest


@part
def _taps(scene, walk, l, z, footprint):
    """Optical depth toward the sun near the sample in a heap and on to the next cell of its grid,
    into the walk: by three looks at the density and the light grid beyond."""
    p = scene.field.layers[l]
    sun, x, y, random = scene.sun.direction, walk.x, walk.y, walk.random
    sx, sy, sz = sun[0], sun[1], sun[2]
    near, level = 0.0, z + lifted(scene.field, p, x, y)
    for tap in range(3):
        middle, length = TAPS[tap]
        d = middle * (0.75 + 0.5 * random)
        _, sigma = density(scene.field, l, x + d * sx, y + d * sy, level + d * sz,
                           max(0.3 * length, 0.7 * footprint), 1.0 if tap == 0 else 0.0)
        near += length * sigma
    walk.tap_near = near
    walk.tap_depth = near + grid_depth(scene.light, p, x + TAPS_END * sx, y + TAPS_END * sy,
                                       z + TAPS_END * sz)


@part
def _from_layer(scene, walk, m, ds, e, es, gained, footprint):
    """Add what the m-th of the layers at the sample sends along the ray."""
    l, sigma = walk.here[m], walk.sigmas[m]
    p = scene.field.layers[l]
    grid, place, x, y = walk.grid, walk.place, walk.x, walk.y
    z = walk.h - p.base - lifted(scene.field, p, x, y)
    k_s = p.k_scaled
    depth = walk.sigma * ds
    share = sigma / walk.sigma
    share_s = k_s * sigma / walk.sigma_scaled
    falling = p.fall > 0.0 and z < falls_from(p)
    if falling:
        _below(p, scene.sun.direction, x, y, z, place)
        grid_light(scene.light, p, place[0], place[1], place[2], grid)
    else:
        grid_light(scene.light, p, x, y, z, grid)
    j_sun, j_sky = grid[SUN_J], grid[SKY_J]
    flux = -(grid[FLUX_X] * walk.dx + grid[FLUX_Y] * walk.dy + grid[FLUX_Z] * walk.dz)
    tau = max(grid[DEPTH], 0.0)
    second, under_cloud = 0.0, from_below(scene, l, x, y)
    if falling:  # thin: the beam that gets there, what the cloud above lets down,
        # and ground that lies in deeper shade than ground on the whole
        open_share = math.exp(-k_s * tau)
        j_sun, flux = RAIN_FACE * j_sun, 0.0
        j_sky = 0.5 * open_share + RAIN_FACE * (1.0 - open_share) * j_sky
        under_cloud = p.rain_ground * (RAIN_SHADE + (1.0 - RAIN_SHADE) * open_share)
    elif p.form == HEAPED:
        if walk.through > DEEP:
            if walk.tap_age >= 1:
                walk.tap_age = 0
                _taps(scene, walk, l, z, footprint)
            else:
                walk.tap_age += 1
            tau = walk.tap_depth
            j_sun *= CREVICE_LOW + CREVICE_GAIN * math.exp(-CREVICE_FALL * walk.tap_near)
        second = SECOND_HEAP * math.exp(-FALL_HEAP * k_s * tau)
    else:
        c = abs(walk.dz) / LIMB_DEPTH  # mean over the step, weighted as its light
        near = walk.through_scaled**c
        if es < 0.9999:
            near *= (1.0 - es ** (1.0 + c)) / ((1.0 + c) * (1.0 - es))
        limb = 1.0 - LIMB * near
        j_sun *= limb
        flux *= limb
        second = SECOND_SHEET * (1.0 + LEAN_SHEET * walk.cosine) * (
            1.0 - LIMB_SECOND * near) * math.exp(-FALL_SHEET * k_s * tau)
    along = tau + walk.depth + 0.5 * depth
    once = beam_at(scene.beam.once, p.phase, walk.row, along, k_s)
    narrow = beam_at(scene.beam.narrow, p.phase, walk.row, tau, k_s)
    sun_light = (sigma * ds * once * scene.once_share[l]
                 + share * (1.0 - e) * walk.through * narrow
                 + share_s * gained * (max(0.0, j_sun + 3.0 * p.g_scaled * flux) + second))
    j_sky = clamp(j_sky, 0.0, 1.0)
    up = share_s * gained * j_sky
    down = share_s * gained * (1.0 - j_sky) * under_cloud
    walk.matte[l] += share_s * gained
    tones(scene.field, p, x, y, z, sigma, tau, footprint, walk.tones)
    haloed = p.halo * sigma * ds * math.exp(-HALO_FALL * along)
    for c in range(3):
        gain = ((sun_light + haloed * walk.ring[c]) * walk.sunlight[c] * walk.tones[LIT + c]
                + up * scene.ambient[l, 0, c] * walk.day[c] * walk.tones[BODY + c]
                + down * scene.ambient[l, 1, c] * walk.day[3 + c] * walk.tones[BASE + c])
        walk.batch[c] += gain
        walk.latest[c] += gain


@part
def gather(scene, walk, place, ds, footprint, with_passes):
    """Add the light of a step in cloud; what lies behind is weakened by it. Sets `opaque` when
    hardly anything more can come."""
    depth = walk.sigma * ds
    e = math.exp(-depth)
    es = math.exp(-walk.sigma_scaled * ds)
    sunlight_at(scene.sunlight, scene.sun.direction, scene.radius, walk.x, walk.y, walk.h,
                walk.sunlight)
    if scene.clear.high:
        day_there(scene, walk.x, walk.y, walk.day[:])
    gained = walk.through_scaled * (1.0 - es)
    for c in range(3):
        walk.latest[c] = 0.0
    for m in range(walk.active):
        if walk.sigmas[m] > 0.0:
            _from_layer(scene, walk, m, ds, e, es, gained, footprint)
    walk.weight += gained
    walk.weight_t += gained * place
    walk.through *= e
    walk.through_scaled *= es
    walk.depth += depth
    left = walk.through_scaled
    if walk.first_t == 0.0 and left < SEEN:
        walk.first_t = place
    if walk.half_t == 0.0 and left < 0.5:
        walk.half_t = place
    if left >= OPAQUE:
        return
    # What little would still come is as bright as the deepest light met.
    walk.opaque = 1
    for c in range(3):
        walk.batch[c] += walk.latest[c] * left / gained
    walk.weight += left
    walk.weight_t += left * place
    if with_passes:
        for m in range(walk.active):
            l = walk.here[m]
            walk.matte[l] += (scene.field.layers[l].k_scaled * walk.sigmas[m]
                              / walk.sigma_scaled * left)
    walk.through_scaled = 0.0
