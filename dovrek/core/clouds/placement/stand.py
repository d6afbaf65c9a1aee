"""The heaps that stand at a level of growth and a stage of life, indexed for the march."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.placement.cover import grown_scale
from dovrek.core.clouds.placement.deal import ALL_ROUND, DRAWN, Ahead, Run, is_ahead, wrapped
from dovrek.core.clouds.record import INSTANCE, SUBSIDES
from dovrek.core.clouds.shapes import Shapes
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, kernel, solver

SMALLEST = 0.05  # scale of the least cloud that stands
PIECES = 4  # in which standing clouds are found and indexed: every piece of squares walks all
FEW = 20_000  # clouds, up to which one walk is sooner than sharing it out
# Stages of life: grown by, falling apart from.
GROWN, FALLING = 0.38, 0.62
CROSSING = 0.25  # of a turn of lives over which one cloud gives way to the next
BORN, GONE = 0.35, 0.6  # of that: swollen from nothing by, shrunk to nothing from


class Life(NamedTuple):
    """How far the clouds of a layer have lived."""

    stage: float
    spread: float
    early_decay: float
    ending: int  # EVAPORATES, TEARS or SUBSIDES
    anvil: bool  # clouds point along the wind
    wind_x: float
    wind_y: float
    turned: float = -1.0  # share of the present turn of lives that has passed; below 0: none turn
    back_x: float = 0.0  # by which the next turn's clouds are set back, metres
    back_y: float = 0.0


class Cells(NamedTuple):
    """The clouds that stand, and where to look for them (grid squares of half a cell), flat as a
    field holds them."""

    clearances: NDArray[np.float32]  # (M²,) metres to the nearest circle, 0 where members are
    instances: NDArray[np.void]  # INSTANCE
    links: NDArray[np.int32]  # M² + 1 starts of the squares' members; members
    squares: int  # M
    period_m: float


@kernel
def lived(luck, life, due, young, out):
    """Width, height, age (0 … 1) and size over full of a cloud with its own luck at a stage of
    life; (4,).

    Nothing is there before 0 and after 1; between GROWN and FALLING a cloud is full grown. Where
    lives turn, a cloud stands at its stage until it is `due`, then lives to its end while that of
    the next turn (`young`) grows up to its own stage.
    """
    a = life.stage + life.spread * (luck - 0.5) * 4.0 * min(life.stage, 1.0 - life.stage) * 0.6
    out[0], out[1], out[2], out[3] = 0.0, 1.0, 0.0, 1.0
    if life.stage <= 0.0 or life.stage >= 1.0 or a <= 0.0 or a >= 1.0:
        return
    if life.turned >= 0.0:
        crossed = clamp((life.turned - due * (1.0 - CROSSING)) / CROSSING, 0.0, 1.0)
        if young:
            a *= crossed
            out[3] = smoothstep(0.0, BORN, crossed)
        else:
            a += crossed * (1.0 - a)
            out[3] = 1.0 - smoothstep(GONE, 1.0, crossed)
        if a <= 0.0 or a >= 1.0:
            return
    grown, old = smoothstep(0.0, GROWN, a), smoothstep(FALLING, 1.0, a)
    out[0], out[1] = 0.22 + 0.78 * grown, 0.3 + 0.7 * smoothstep(0.02, GROWN, a)
    lost = (luck * 7.31) % 1.0 < life.early_decay
    if lost:  # never grows up: low, small and torn from the start
        old = max(old, 0.45)
        out[0], out[1] = 0.6 * out[0], 0.45 * out[1]
    out[2] = old
    if life.ending == SUBSIDES:
        out[0] *= 1.0 + 0.3 * old
        out[1] *= 1.0 - 0.78 * old
        out[2] *= 0.75
    else:
        out[1] *= 1.0 - 0.35 * old


@solver
def _stand(dealt, k0, k1, level, life, young, radii, tops, half_width, skin, ahead, period, margin,
           out):
    """The instances of the possible clouds k0 … k1 that are there, in the rows of `out` from k0
    on; their number. `young`: they are those of the next turn of lives."""
    n = k0
    own = np.empty(4)
    for k in range(k0, k1):
        cloud = dealt[k]
        scale = grown_scale(cloud.size, cloud.rank, level)
        if scale <= SMALLEST or not is_ahead(ahead, period, cloud.x, cloud.y, margin):
            continue
        lived(cloud.luck, life, cloud.due, young, own)
        scale *= own[0] * own[3]
        if own[0] <= 0.0 or scale <= SMALLEST * own[0]:
            continue
        shape, stood = cloud.shape, out[n]
        stood.x, stood.y, stood.scale, stood.shape = cloud.x, cloud.y, scale, shape
        stood.late, stood.dense = 0.0, 1.0
        if young:
            x, y = cloud.x + life.back_x, cloud.y + life.back_y
            stood.x = x - math.floor(x / period) * period
            stood.y = y - math.floor(y / period) * period
            stood.late = 1.0
        stood.turn_cos, stood.turn_sin = cloud.turn_cos, cloud.turn_sin
        if life.anvil:
            turn = 0.5 * (cloud.luck - 0.5)
            c, s = math.cos(turn), math.sin(turn)
            stood.turn_cos = c * life.wind_x - s * life.wind_y
            stood.turn_sin = s * life.wind_x + c * life.wind_y
        stood.reach = scale * min(radii[shape] + skin, half_width)
        tall = own[1] / own[0]  # the scale makes it lower already
        stood.tall, stood.age = tall, own[2]
        stood.top = min(scale, 1.0) * tops[shape] * tall
        n += 1
    return n - k0


@kernel
def _index(instances, period, squares, r0, r1, cursor, members, fill):
    """Count (fill False) or list the instances whose circle touches each grid square of rows
    r0 … r1; `cursor` holds where each square's next member goes."""
    size = period / squares
    per_metre = squares / period
    for k in range(len(instances)):
        x, y, reach = instances[k].x, instances[k].y, instances[k].reach
        i0, i1 = math.floor((x - reach) * per_metre), math.floor((x + reach) * per_metre)
        j0, j1 = math.floor((y - reach) * per_metre), math.floor((y + reach) * per_metre)
        for i in range(i0, i1 + 1):
            row = wrapped(i, squares)
            if row < r0 or row >= r1:
                continue
            nx = clamp(x, i * size, (i + 1) * size) - x
            left = reach * reach - nx * nx
            for j in range(j0, j1 + 1):
                ny = clamp(y, j * size, (j + 1) * size) - y
                if ny * ny > left:
                    continue
                square = row * squares + wrapped(j, squares)
                if fill:
                    members[cursor[square]] = k
                cursor[square] += 1


@inner
def _lower_row(rings, i, before, way):
    """Let a row of the torus follow the one before it and its own squares in the way they are
    walked (1 or −1); by how much it fell."""
    n, one = len(rings), np.float32(1.0)
    fell = np.float32(0.0)
    for j in range(1, n - 1):
        near = min(min(rings[before, j - 1], rings[before, j + 1]), rings[before, j]) + one
        fell += max(rings[i, j] - near, np.float32(0.0))
        rings[i, j] = min(rings[i, j], near)
    for j in (0, n - 1):
        near = min(min(rings[before, wrapped(j - 1, n)], rings[before, wrapped(j + 1, n)]),
                   rings[before, j]) + one
        fell += max(rings[i, j] - near, np.float32(0.0))
        rings[i, j] = min(rings[i, j], near)
    first, end = (0, n - 1) if way > 0 else (n - 1, 0)
    for _ in range(2):  # once more where its end reaches around the border
        last = rings[i, end]
        for k in range(n):
            j = k if way > 0 else n - 1 - k
            own = rings[i, j]
            last = min(own, last + one)
            fell += own - last
            rings[i, j] = last
        if rings[i, first] <= last + one:
            break
    return fell


@kernel
def _clear(counts, size, rings, out):
    """Lower bound of the distance to squares with members: rings of squares about them on the
    torus, by two passes (Rosenfeld & Pfaltz 1966), each until it has been around."""
    n = len(rings)
    for i in range(n):
        for j in range(n):
            rings[i, j] = 0.0 if counts[i * n + j] > 0 else n
    for way in (1, -1):
        for turn in range(2 * n):
            i = turn % n if way > 0 else n - 1 - turn % n
            fell = _lower_row(rings, i, wrapped(i - way, n), way)
            if turn >= n and fell == 0.0:  # nor will the rows after it
                break
    for i in range(n):
        for j in range(n):
            out[i * n + j] = max(rings[i, j] - 1.0, 0.02) * size if rings[i, j] > 0.0 else 0.0


def in_pieces(run: Run, f: Callable[[int, int], None], n: int, clouds: int) -> None:
    """Spread f(first, last) over 0 … n in PIECES, unless the clouds are few."""
    if clouds <= FEW:
        f(0, n)
        return

    def some(first: int, last: int) -> None:
        for k in range(first, last):
            f(n * k // PIECES, n * (k + 1) // PIECES)

    run(some, PIECES)


def stand_cells(dealt: NDArray[np.void], period_m: float, size_m: float, shapes: Shapes,
                level: float, life: Life, skin_m: float, run: Run,
                ahead: Ahead = ALL_ROUND, then: NDArray[np.void] | None = None) -> Cells:
    """The clouds present at a level of growth and a stage of life, indexed for the march; `then`
    are the possible clouds of the next turn of lives, which takes the place of the present one.

    `skin_m` is how far the skin may carry a full-grown cloud beyond its shape; `run` spreads a
    function over pieces and may raise.
    """
    squares = max(int(round(period_m / (0.5 * size_m))), 6)
    tops = shapes.tops * shapes.squash
    parts = []
    for young, possible in enumerate([dealt] if then is None else [dealt, then]):
        every = np.empty(len(possible), INSTANCE)
        found: dict[int, int] = {}

        def stand(first: int, last: int, young: bool = young > 0,
                  possible: NDArray[np.void] = possible, every: NDArray[np.void] = every,
                  found: dict[int, int] = found) -> None:
            found[first] = _stand(possible, first, last, level, life, young, shapes.radii, tops,
                                  shapes.half_width_m, skin_m, ahead, period_m, DRAWN * size_m,
                                  every)

        in_pieces(run, stand, len(possible), len(possible))
        standing = 0
        for first, number in sorted(found.items()):  # moved together
            if first != standing:
                every[standing : standing + number] = every[first : first + number]
            standing += number
        parts.append(every[:standing])
    return indexed(parts[0] if then is None else np.concatenate(parts), period_m, squares, run)


def indexed(instances: NDArray[np.void], period_m: float, squares: int, run: Run) -> Cells:
    """Clouds with the squares (a side) of the torus in which they are found."""
    size, count = period_m / squares, squares * squares
    none = np.empty(0, dtype=np.int32)
    counts = np.zeros(count, dtype=np.int32)
    in_pieces(run, lambda r0, r1: _index(instances, period_m, squares, r0, r1, counts, none,
                                         False), squares, len(instances))
    total = int(counts.sum())
    links = np.empty(count + 1 + max(total, 1), dtype=np.int32)
    starts, members = links[: count + 1], links[count + 1 :]
    starts[0] = 0
    np.cumsum(counts, out=starts[1:])
    cursor = starts[:-1].copy()
    in_pieces(run, lambda r0, r1: _index(instances, period_m, squares, r0, r1, cursor, members,
                                         True), squares, len(instances))
    clearances = np.empty(count, dtype=np.float32)
    _clear(counts, size, np.empty((squares, squares), dtype=np.float32), clearances)
    return Cells(clearances, instances, links, squares, period_m)
