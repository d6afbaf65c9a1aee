"""How the tone of ground differs from place to place: fields and tracks, wet and dry."""

from __future__ import annotations

from dovrek.core.clouds.texture import flat_noise
from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner

# Tiles of the noise, metres: what a pixel's strip does not hold is averaged away by itself.
TILES = (9000.0, 1900.0, 410.0, 90.0, 19.0, 4.0)
OCTAVES = 6
SHARE = 0.62  # of an octave's strength over the next wider one's
STRENGTH = 0.5  # of the widest at a variety of 1
LEAST, MOST = 0.35, 1.8


@inner
def ground_tone(scene, x, y, footprint):
    """Albedo at a place (metres from the camera's foot) over the mean; 1 for even ground."""
    ground = scene.ground
    if ground.variety <= 0.0:
        return 1.0
    east, north = x + ground.east, y + ground.north
    tone, strength = 1.0, STRENGTH * ground.variety
    for k in range(OCTAVES):
        if TILES[k] < footprint:
            break
        tone += strength * flat_noise(scene.field.bytes, east, north, TILES[k], 0.17 + 0.11 * k,
                                      footprint)
        strength *= SHARE
    return clamp(tone, LEAST, MOST)
