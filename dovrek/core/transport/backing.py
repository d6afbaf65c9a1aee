"""What lies behind the clouds along a ray: air up to a distance, ground, water, land, sky."""

from __future__ import annotations

from dovrek.core.air.sky_looks import HAZE, OWN, PASSED, air_parts, sky_parts
from dovrek.core.air.sunlight import sunlight_at
from dovrek.core.compile.kernels import part
from dovrek.core.geometry.planet import arc_share
from dovrek.core.land.tones import picture_tone
from dovrek.core.transport.disc import sun_disc_share
from dovrek.core.transport.ground_tone import ground_tone
from dovrek.core.transport.land_light import land_light
from dovrek.core.transport.look_ups import day_there, light_on_ground
from dovrek.core.transport.shadow_rays import lit_share, taken
from dovrek.core.transport.water import water_light, water_share, wave_tilt

STEEPEST_STRIP, LONGEST_STRIP = 2e-4, 0.4  # sine of a ray's fall at least; of its way, at most


@part
def air_before(scene, walk, shadows, distance):
    """In-scatter and transmittance of the air up to a distance, clouds' shadows in it."""
    parts = walk.parts
    air_parts(scene.clear, walk.elevation, walk.azimuth, distance, parts)
    lit = lit_share(shadows, distance)
    for c in range(3):
        walk.scatter[c] = parts[OWN + c] + walk.haze * lit * parts[HAZE + c]
        walk.passed[c] = parts[PASSED + c]
    if scene.clear.high and walk.pixel_m > 0.0:  # a plan, over places by day and by night
        day_there(scene, walk.x0, walk.y0, walk.day[:])
        for c in range(3):
            walk.scatter[c] *= walk.day[c]


@part
def _water(scene, walk, x, y, lit, footprint):
    """Lay water over the light of the ground behind a ray, and note what it mirrors."""
    share, tone = water_share(scene, x, y, footprint)
    for c in range(3):
        walk.behind[c] *= (1.0 - share) * tone * scene.ground.land[c]
    if share <= 0.0:
        return
    if scene.clear.high:
        day_there(scene, x, y, walk.day[:])
    sunlight_at(scene.sunlight, scene.sun.direction, scene.radius, x, y, 0.0, walk.sunlight[:])
    mirrored, seen = water_light(scene, walk, x, y, lit, walk.grid[:])
    for c in range(3):
        walk.behind[c] += share * walk.grid[c]
    if scene.clear.high:  # the sky over there, clouds and all, on the whole
        for c in range(3):
            walk.behind[c] += (share * mirrored * scene.ground.by_sky[c] * walk.day[c]
                               / max(scene.ground.albedo[c], 1e-4))
    else:
        walk.mirrored, walk.mirror_x, walk.mirror_y = share * mirrored, x, y
        walk.mirror_rise = seen + wave_tilt(scene, x, y, footprint, walk.random)


@part
def ground_behind(scene, walk, shadows):
    """Light of the ground where the ray meets it, and of the air before it; the share of sunlight
    there."""
    t = walk.ground_t
    air_before(scene, walk, shadows, t)
    way = t * arc_share(scene.radius, walk.r0, t, walk.dz, walk.level)
    x, y = walk.x0 + way * walk.dx, walk.y0 + way * walk.dy
    across = walk.pixel_m + walk.pixel_rad * t
    if walk.on_land != 0:
        h = walk.height + t * walk.dz + t * t * (1.0 - walk.dz * walk.dz) / (2.0 * scene.radius)
        lit = land_light(scene, x, y, h, walk.random, walk.normal[:], walk.sunlight[:],
                         walk.behind[:])
        tone = ground_tone(scene, x, y, across)
        for c in range(3):
            walk.behind[c] *= tone
        if len(scene.land_tones) > 1:
            picture_tone(scene.land, scene.land_tones, x, y, across, walk.grid[:])
            for c in range(3):
                walk.behind[c] *= walk.grid[c]
    else:
        level = walk.dx * walk.dx + walk.dy * walk.dy
        down = max(-walk.dz - t * level / scene.radius, STEEPEST_STRIP)
        long = min(0.5 * across / down, LONGEST_STRIP * t)
        lit = light_on_ground(scene, x, y, long * walk.dx, long * walk.dy, across, walk.random,
                           walk.behind)
        if scene.ground.water > 0.0:
            _water(scene, walk, x, y, lit, max(across, 2.0 * long * walk.level))
    for c in range(3):
        walk.behind[c] = walk.behind[c] * walk.passed[c] + walk.scatter[c]
    return lit


@part
def sky_behind(scene, marching, walk, shadows):
    """Light of the clear sky, the night's glow and the disc."""
    parts = walk.parts
    sky_parts(scene.clear, walk.elevation, walk.azimuth, walk.weights_i[:],
              walk.weights_j[:], parts[:])
    for c in range(3):
        hazy = parts[HAZE + c]
        if scene.shadow_rays:
            hazy -= taken(shadows, c, hazy)
        walk.behind[c] = parts[OWN + c] + walk.haze * hazy + scene.glow[c]
    if marching.sun_disc and walk.mirror == 0:
        disc = sun_disc_share(scene, walk.elevation, walk.azimuth, walk.pixel_rad)
        if disc > 0.0 and walk.through_scaled > 0.0:
            # The disc shines through true extinction, the sky through the scaled one.
            disc *= walk.through / walk.through_scaled
            for c in range(3):
                walk.behind[c] += disc * scene.sun.radiance[c]
