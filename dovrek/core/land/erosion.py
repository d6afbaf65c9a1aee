"""Land worn by its rivers: uplift against streams that cut in, slopes that creep.

Stream power with drainage area, solved implicitly from mouths to springs (Braun & Willett 2013, a
very efficient method to solve the stream power equation); the order, and a way out of every
hollow, come from a flood that rises from the level ground (Barnes, Lehman & Mulla 2014,
priority-flood).
"""

from __future__ import annotations

import heapq
import math

import numpy as np

from dovrek.core.compile.kernels import inner, solver

AREA_POWER = 0.45
CUT = 0.6
FLOODED = 4  # turns that share one flood


@solver
def _flood(h, uplift, order, down, area, seen):
    """Places in the order that a rising flood reaches them, where each one's water goes, and how
    many drain through it; their number."""
    m = len(h)
    heap = [(0.0, 0)]
    heap.pop()
    for i in range(m):
        for j in range(m):
            k = i * m + j
            down[k], area[k], seen[k] = k, 1.0, 0
            if uplift[i, j] > 0.0:
                continue
            h[i, j] = 0.0
            seen[k] = 1
            if (i > 0 and uplift[i - 1, j] > 0.0) or (i < m - 1 and uplift[i + 1, j] > 0.0) or (
                    j > 0 and uplift[i, j - 1] > 0.0) or (j < m - 1 and uplift[i, j + 1] > 0.0):
                heapq.heappush(heap, (0.0, k))
    count = 0
    while len(heap) > 0:
        level, k = heapq.heappop(heap)
        order[count] = k
        count += 1
        for a in range(-1, 2):
            for b in range(-1, 2):
                p, q = k // m + a, k % m + b
                if p < 0 or q < 0 or p >= m or q >= m or seen[p * m + q] != 0:
                    continue
                seen[p * m + q] = 1
                down[p * m + q] = k
                heapq.heappush(heap, (max(h[p, q], level + 1e-5), p * m + q))
    for c in range(count):
        k = order[c]
        if uplift[k // m, k % m] > 0.0:
            down[k] = _steepest(h, k, down[k])
    for c in range(count - 1, -1, -1):
        k = order[c]
        if down[k] != k:
            area[down[k]] += area[k]
    return count


@inner
def _steepest(h, k, flooded):
    """The neighbour to which water falls most steeply; `flooded`, the way the flood came, where it
    falls to none."""
    m = len(h)
    i, j = k // m, k % m
    best, found = 0.0, flooded
    for a in range(-1, 2):
        for b in range(-1, 2):
            p, q = i + a, j + b
            if (a != 0 or b != 0) and 0 <= p < m and 0 <= q < m:
                fall = (h[i, j] - h[p, q]) / math.sqrt(a * a + b * b + 0.0)
                if fall > best:
                    best, found = fall, p * m + q
    return found


@inner
def _cut(h, uplift, order, count, down, area):
    """One turn of uplift and cutting, from mouths to springs."""
    m = len(h)
    for c in range(count):
        k = order[c]
        i, j = k // m, k % m
        if uplift[i, j] <= 0.0:
            continue
        p, q = down[k] // m, down[k] % m
        far = math.sqrt((i - p) ** 2 + (j - q) ** 2 + 0.0)
        cut = CUT * area[k] ** AREA_POWER / max(far, 1.0)
        h[i, j] = (h[i, j] + uplift[i, j] + cut * h[p, q]) / (1.0 + cut)


@inner
def _creep(h, uplift, creep, moved):
    """Slopes run a little into their hollows; `moved` takes the heights as they were."""
    m = len(h)
    for i in range(m):
        for j in range(m):
            moved[i, j] = h[i, j]
    for i in range(1, m - 1):
        for j in range(1, m - 1):
            if uplift[i, j] > 0.0:
                h[i, j] += 0.5 * creep * (moved[i - 1, j] + moved[i + 1, j] + moved[i, j - 1]
                                          + moved[i, j + 1] - 4.0 * moved[i, j])


@solver
def erode(h, uplift, turns, creep):
    """Change heights (m, m) in place by turns of uplift, cutting and creep; places without uplift
    are the level ground, where rivers end."""
    m = len(h)
    order, down = np.empty(m * m, np.int64), np.empty(m * m, np.int64)
    area, seen = np.empty(m * m), np.empty(m * m, np.uint8)
    moved = np.empty((m, m))
    count = 0
    for turn in range(turns):
        if turn % FLOODED == 0:  # rivers change slowly
            count = _flood(h, uplift, order, down, area, seen)
        _cut(h, uplift, order, count, down, area)
        for _ in range(2):
            _creep(h, uplift, creep, moved)
