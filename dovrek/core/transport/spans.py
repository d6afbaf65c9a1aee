"""Where a straight ray lies inside the shells of cloud layers over a round planet."""

from __future__ import annotations

from dovrek.core.compile.kernels import inner
from dovrek.core.geometry.planet import shell_crossings
from dovrek.core.transport.scratch import SPANS_MOST

SHORTEST_M = 0.5


@inner
def layer_spans(layers, radius, height, dz, limit, spans):
    """Stretches (m) of a ray inside each layer's shell, and their sorted ends, into `spans`.

    `height` and `dz` are the origin's height above the ground and the direction's cosine from
    the zenith there; nothing beyond `limit` counts.
    """
    starts, ends, owner = spans.starts, spans.ends, spans.owner
    cuts, hits = spans.cuts, spans.hits
    count, n_cuts = 0, 0
    for l in range(len(layers)):
        p = layers[l]
        low, high = p.base + p.lowest, p.base + p.highest
        if not shell_crossings(radius, height, dz, high, hits):
            continue
        a, b = max(hits[0], 0.0), min(hits[1], limit)
        if b <= a:
            continue
        crosses = shell_crossings(radius, height, dz, low, hits)
        parts = 1
        a2, b2 = 0.0, 0.0
        if crosses and hits[1] > 0.0:
            if hits[0] <= a:
                a = max(a, hits[1])
            else:
                a2, b2 = max(hits[1], a), b
                b = min(b, hits[0])
                parts = 2
        for part in range(parts):
            if part == 1:
                a, b = a2, b2
            if b - a > SHORTEST_M and count < SPANS_MOST:
                starts[count], ends[count], owner[count] = a, b, l
                cuts[n_cuts], cuts[n_cuts + 1] = a, b
                n_cuts += 2
                count += 1
    for i in range(1, n_cuts):  # insertion sort
        v = cuts[i]
        j = i - 1
        while j >= 0 and cuts[j] > v:
            cuts[j + 1] = cuts[j]
            j -= 1
        cuts[j + 1] = v
    spans.count = count


@inner
def layers_at(spans, middle, here):
    """Layers whose stretches hold a distance, into `here`; how many there are."""
    active = 0
    for s in range(spans.count):
        if spans.starts[s] <= middle < spans.ends[s]:
            here[active] = spans.owner[s]
            active += 1
            if active == len(here):
                break
    return active
