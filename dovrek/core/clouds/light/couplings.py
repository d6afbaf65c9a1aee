"""Diffusion between the cells of a level: what couples them, and the relaxation of the whole."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.light.grid import Array32
from dovrek.core.compile.kernels import kernel

RELAX = 1.5
# Hollows and gaps that light crosses from side to side: its free way there in cells, and how steep
# a line from lump to lump may be that closes them.
HOLLOWS_SHEET, HOLLOWS_HEAP = (3.0, 0.6), (6.0, 2.5)
MINUS_X, PLUS_X, MINUS_Y, PLUS_Y, MINUS_Z, PLUS_Z = range(6)  # faces of a cell



@kernel
def _fill_hollows(sigma, floor, clear, climb, low, high, out):
    """Give hollows and narrow gaps the extinction `clear`, which light crosses from side to side
    at random, as a rarefied gas goes through a tube (Knudsen 1909).

    Both faces are drawn tight from lump to lump, rising no more than `climb` cells from a column
    to the next; what lies between them is filled. `low` and `high` (n, n) are scratch.
    """
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            low[i, j], high[i, j] = 1e9, -1e9
            for k in range(nz):
                out[i, j, k] = sigma[i, j, k]
                if sigma[i, j, k] > floor:
                    low[i, j] = min(low[i, j], k)
                    high[i, j] = k
    for way in range(2):  # there and back again over the columns
        for p in range(n):
            for q in range(n):
                i, j = (n - 1 - p, n - 1 - q) if way else (p, q)
                a, b = (i + 1, j + 1) if way else (i - 1, j - 1)
                if 0 <= a < n:
                    low[i, j] = min(low[i, j], low[a, j] + climb)
                    high[i, j] = max(high[i, j], high[a, j] - climb)
                if 0 <= b < n:
                    low[i, j] = min(low[i, j], low[i, b] + climb)
                    high[i, j] = max(high[i, j], high[i, b] - climb)
    for i in range(n):
        for j in range(n):
            for k in range(max(int(math.ceil(low[i, j])), 0), min(int(high[i, j]), nz - 1) + 1):
                if sigma[i, j, k] <= floor:
                    out[i, j, k] = clear


@kernel
def _couple(sigma, k_t, dx, dz, floor, cx, cy, cz, free):
    """Coupling (1/m) of each cell to its +x, +y, +z neighbour, and its loss through free faces.

    `free` holds six losses a cell: −x, +x, −y, +y, −z, +z. All are given as noughts.
    """
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                xm = sigma[i - 1, j, k] if i > 0 else own
                xp = sigma[i + 1, j, k] if i < n - 1 else own
                ym = sigma[i, j - 1, k] if j > 0 else own
                yp = sigma[i, j + 1, k] if j < n - 1 else own
                zm = sigma[i, j, k - 1] if k > 0 else 0.0
                zp = sigma[i, j, k + 1] if k < nz - 1 else 0.0
                gx, gy, gz = (xp - xm) / dx, (yp - ym) / dx, (zp - zm) / dz
                norm = math.sqrt(gx * gx + gy * gy + gz * gz) + 1e-12
                nx, ny, nz_ = abs(gx) / norm, abs(gy) / norm, abs(gz) / norm
                gxy = 1.0 / (1.5 * dx * k_t * own + 2.0) / dx
                gzz = 1.0 / (1.5 * dz * k_t * own + 2.0) / dz
                if i < n - 1:
                    if xp > floor:
                        cx[i, j, k] = 1.0 / (1.5 * dx * k_t * (own + xp)) / dx
                    else:
                        free[i, j, k, PLUS_X] = gxy * nx
                if i > 0 and xm <= floor:
                    free[i, j, k, MINUS_X] = gxy * nx
                if j < n - 1:
                    if yp > floor:
                        cy[i, j, k] = 1.0 / (1.5 * dx * k_t * (own + yp)) / dx
                    else:
                        free[i, j, k, PLUS_Y] = gxy * ny
                if j > 0 and ym <= floor:
                    free[i, j, k, MINUS_Y] = gxy * ny
                if zp > floor:
                    cz[i, j, k] = 1.0 / (1.5 * dz * k_t * (own + zp)) / dz
                else:
                    free[i, j, k, PLUS_Z] = gzz * max(nz_, 0.05)
                if zm <= floor:
                    free[i, j, k, MINUS_Z] = gzz * max(nz_, 0.05)


@kernel
def _factorise(sigma, floor, cx, cy, cz, free, pivot, ratio):
    """Factors of the tridiagonal solve up each column (Thomas), good for every sweep: inverse
    pivots, and what a cell takes over from the one below. Both are given as noughts, which
    stay in clear air."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            below = 0.0
            for k in range(nz):
                if sigma[i, j, k] <= floor:
                    below = 0.0
                    continue
                total = cx[i, j, k] + cy[i, j, k] + cz[i, j, k] + below + 1e-9
                for m in range(6):
                    total += free[i, j, k, m]
                if i > 0:
                    total += cx[i - 1, j, k]
                if j > 0:
                    total += cy[i, j - 1, k]
                if below > 0.0:
                    ratio[i, j, k] = below * pivot[i, j, k - 1]
                    total -= below * ratio[i, j, k]
                pivot[i, j, k] = 1.0 / total
                below = cz[i, j, k]


@kernel
def _relax(cx, cy, cz, pivot, ratio, lowest, highest, right, source, j_field, sweeps, cancel):
    """Red–black over columns with a tridiagonal solve up each column, over-relaxed.

    A column's cloud lies in cells `lowest` up to `highest` (n, n); `right` (nz,) is scratch.
    """
    n = len(pivot)
    for sweep in range(2 * sweeps):
        for i in range(n):
            if cancel[0] != 0:
                return
            before, after = max(i - 1, 0), min(i + 1, n - 1)
            for j in range((i + sweep) % 2, n, 2):
                low, high = lowest[i, j], highest[i, j]
                if low >= high:
                    continue
                left, beyond = max(j - 1, 0), min(j + 1, n - 1)
                # Couplings out of the grid and into clear air are nought.
                for k in range(low, high):
                    right[k] = (source[i, j, k] + cx[i, j, k] * j_field[after, j, k]
                                + cy[i, j, k] * j_field[i, beyond, k])
                if i > 0:
                    for k in range(low, high):
                        right[k] += cx[before, j, k] * j_field[before, j, k]
                if j > 0:
                    for k in range(low, high):
                        right[k] += cy[i, left, k] * j_field[i, left, k]
                for k in range(low + 1, high):
                    right[k] += ratio[i, j, k] * right[k - 1]
                above = np.float32(0.0)
                for k in range(high - 1, low - 1, -1):
                    above = (right[k] + cz[i, j, k] * above) * pivot[i, j, k]
                    if pivot[i, j, k] > 0.0:
                        j_field[i, j, k] += RELAX * (above - j_field[i, j, k])


class Couplings:
    """Face couplings of one level, shared by the sun's and the sky's solve."""

    def __init__(self, sigma: Array32, k_t: float, dx: float, dz: float, floor: float,
                 sheet: bool) -> None:
        self.faces = tuple(np.zeros(sigma.shape, dtype=np.float32) for _ in range(3))
        self.free = np.zeros((*sigma.shape, 6), dtype=np.float32)
        free_way, slope = HOLLOWS_SHEET if sheet else HOLLOWS_HEAP
        clear = max(1.0 / (free_way * dx * k_t), 1.01 * floor)
        low, high = (np.empty(sigma.shape[:2], dtype=np.float32) for _ in range(2))
        self.medium = np.empty_like(sigma)
        _fill_hollows(sigma, floor, clear, slope * dx / dz, low, high, self.medium)
        _couple(self.medium, k_t, dx, dz, floor, *self.faces, self.free)
        self.pivot = np.zeros(sigma.shape, dtype=np.float32)
        self.ratio = np.zeros(sigma.shape, dtype=np.float32)
        _factorise(self.medium, floor, *self.faces, self.free, self.pivot, self.ratio)
        cloudy, nz = self.pivot > 0.0, sigma.shape[2]
        self.lowest = np.argmax(cloudy, axis=2)
        self.highest = np.where(cloudy.any(axis=2), nz - np.argmax(cloudy[..., ::-1], axis=2), 0)

    def relax(self, source: Array32, field: Array32, sweeps: int,
              cancel: NDArray[np.uint8]) -> None:
        _relax(*self.faces, self.pivot, self.ratio, self.lowest, self.highest,
               np.empty(source.shape[2], np.float32), source, field, sweeps, cancel)
