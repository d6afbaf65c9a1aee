"""Tones of a wash at a place of a layer: by height, at thin edges, in blotches of the shade."""

from __future__ import annotations

import math

from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import part
from dovrek.core.compile.noise import WISP, noise_level, turned_noise

LIT, BODY, BASE = 0, 3, 6  # of the tones: factors (X, Y, Z) of sunlight, the sky's, the ground's
# Share of a layer's full extinction below which an edge is thin, and above which it is none.
EDGE_THIN, EDGE_FULL = 0.12, 0.6
BLOTCH_MEETS = 0.02, 0.4  # half width of a blotch's rim in the noise: hard, softest


@part
def _begins(share, start, soft):
    """How far a tone that begins at a share of the height is reached: all of it from 0 on."""
    if start <= 0.0:
        return 1.0
    return smoothstep(start - (0.01 + 0.5 * soft), start + (0.01 + 0.5 * soft), share)


@part
def tones(field, p, x, y, z, sigma, depth, footprint, out):
    """What a wash multiplies light by at a place, into `out` (9,): `LIT`, `BODY`, `BASE`.

    (x, y): metres; z: above the base. `sigma`: extinction there, 1/m; `depth`: optical depth
    toward the sun. Below where its body begins a layer has the tone of its base, below where
    its lit side begins that of its body, whatever light falls on it.
    """
    for c in range(3):
        out[LIT + c], out[BODY + c], out[BASE + c] = p.tint_lit[c], p.tint_body[c], p.tint_base[c]
    if p.styled == 0:
        return
    share = z / p.thickness
    lit = _begins(share, p.lit_from, p.tones_soft)
    body = _begins(share, p.body_from, p.tones_soft)
    blotch = 0.0
    if p.blotches > 0.0:
        n = turned_noise(field.bytes, WISP, x + p.blotch_x, y + p.blotch_y, z, p.blotch_size,
                         noise_level(footprint, p.blotch_size), 0.0)
        low, high = BLOTCH_MEETS
        half = low + (high - low) * p.tones_soft
        blotch = smoothstep(p.blotch_centre - half, p.blotch_centre + half, n)
        far = clamp(2.0 * footprint / p.blotch_size - 0.2, 0.0, 1.0)
        blotch += far * (p.blotches - blotch)  # too small to be seen: their mean
    shaded = 1.0 - math.exp(-p.k_scaled * max(depth, 0.0))
    edge = 0.0
    if p.edged != 0:
        edge = 1.0 - smoothstep(EDGE_THIN, EDGE_FULL, sigma / p.extinction)
    for c in range(3):
        from_sky = p.tint_base[c] + body * (p.tint_body[c] - p.tint_base[c])
        from_sun = p.tint_body[c] + lit * (p.tint_lit[c] - p.tint_body[c])
        from_sun = p.tint_base[c] + body * (from_sun - p.tint_base[c])
        other = p.tint_blotch[c] - 1.0
        gain = 1.0 + edge * (p.tint_edge[c] - 1.0)
        out[LIT + c] = gain * from_sun * (1.0 + blotch * shaded * other)
        out[BODY + c] = gain * from_sky * (1.0 + blotch * other)
        out[BASE + c] = gain * p.tint_base[c] * (1.0 + blotch * other)
