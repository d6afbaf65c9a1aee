"""Where a straight ray lies inside the shells of cloud layers over a round planet."""

from __future__ import annotations

import math

from dovrek.core.density import BASE, Z_HIGH, Z_LOW
from dovrek.core.kernels import inner, kernel

SPANS_LIMIT = 64
SHORTEST_M = 0.5


@inner
def shell_crossings(radius, height, dz, shell, out):
    """Distances at which a ray meets a sphere of height `shell`; False when it misses."""
    r0, r1 = radius + height, radius + shell
    b = r0 * dz
    disc = b * b - (r0 - r1) * (r0 + r1)
    if disc <= 0.0:
        return False
    root = math.sqrt(disc)
    out[0], out[1] = -b - root, -b + root
    return True


@kernel
def ground_distance(radius, height, dz):
    """Distance to the ground along a ray; −1 when it never meets it."""
    if dz >= 0.0:
        return -1.0
    r0 = radius + height
    disc = r0 * r0 * dz * dz - height * (2.0 * radius + height)
    if disc <= 0.0:
        return -1.0
    return -r0 * dz - math.sqrt(disc)


@inner
def layer_spans(layers, radius, height, dz, limit, starts, ends, owner, cuts, hits):
    """Stretches (m) of a ray inside each layer's shell, and their sorted ends.

    `height` and `dz` are the origin's height above the ground and the direction's cosine from
    the zenith there; nothing beyond `limit` counts. Fills `starts`, `ends`, `owner` (64 each) and
    `cuts` (128); `hits` (2,) is scratch. Returns how many stretches there are.
    """
    spans, n_cuts = 0, 0
    for l in range(len(layers)):
        p = layers[l]
        low, high = p[BASE] + p[Z_LOW], p[BASE] + p[Z_HIGH]
        if not shell_crossings(radius, height, dz, high, hits):
            continue
        a, b = max(hits[0], 0.0), min(hits[1], limit)
        if b <= a:
            continue
        inner = shell_crossings(radius, height, dz, low, hits)
        parts = 1
        a2, b2 = 0.0, 0.0
        if inner and hits[1] > 0.0:
            if hits[0] <= a:
                a = max(a, hits[1])
            else:
                a2, b2 = max(hits[1], a), b
                b = min(b, hits[0])
                parts = 2
        for part in range(parts):
            if part == 1:
                a, b = a2, b2
            if b - a > SHORTEST_M and spans < SPANS_LIMIT:
                starts[spans], ends[spans], owner[spans] = a, b, l
                cuts[n_cuts], cuts[n_cuts + 1] = a, b
                n_cuts += 2
                spans += 1
    for i in range(1, n_cuts):  # insertion sort
        v = cuts[i]
        j = i - 1
        while j >= 0 and cuts[j] > v:
            cuts[j + 1] = cuts[j]
            j -= 1
        cuts[j + 1] = v
    return spans
