"""Tileable noise volumes, small enough for the cache, with their own averages.

Two volumes of 128³ bytes: rounded lumps (inverted cellular noise) and smooth wisps (gradient
noise), each followed by its averages over 2³, 4³ … voxels, so that detail smaller than a
pixel is replaced by its mean instead of being sampled at random.
"""

from __future__ import annotations

import math
import os
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from functools import cache

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import FOLDER, inner, kernel, solver

SIZE = 128
LEVELS = 6  # 128, 64, … 4
BILLOW = 0  # places of the volumes among the bytes of a field
WISP = sum((SIZE >> level) ** 3 for level in range(LEVELS))
NOISE_BYTES = 2 * WISP
SPREAD = 0.4  # standard deviation of the finest level

Bytes = NDArray[np.uint8]


@kernel
def hash_unit(a, b, c):
    """A number in 0 … 1 from three integers (finaliser after Steele et al. 2014)."""
    h = (np.uint64(a) * np.uint64(0x9E3779B97F4A7C15)
         ^ np.uint64(b) * np.uint64(0xC2B2AE3D27D4EB4F)
         ^ np.uint64(c) * np.uint64(0x165667B19E3779F9))
    h ^= h >> np.uint64(30)
    h *= np.uint64(0xBF58476D1CE4E5B9)
    h ^= h >> np.uint64(27)
    h *= np.uint64(0x94D049BB133111EB)
    h ^= h >> np.uint64(31)
    return float(h >> np.uint64(11)) * (1.0 / 9007199254740992.0)


@solver
def _cellular(cells, seed, i0, i1, out):
    """Inverted distance to the nearest of jittered points, added to planes i0 … i1 of `out`."""
    points = np.empty((cells, cells, cells, 3), dtype=np.float32)
    for a in range(cells):
        for b in range(cells):
            for c in range(cells):
                for k in range(3):
                    points[a, b, c, k] = hash_unit(a * cells + b, c + 977 * seed, k + 31)
    scale = cells / SIZE
    for i in range(i0, i1):
        for j in range(SIZE):
            for k in range(SIZE):
                x, y, z = (i + 0.5) * scale, (j + 0.5) * scale, (k + 0.5) * scale
                cx, cy, cz = int(x), int(y), int(z)
                best = np.float32(9.0)
                for a in range(cx - 1, cx + 2):
                    for b in range(cy - 1, cy + 2):
                        for c in range(cz - 1, cz + 2):
                            p = points[a % cells, b % cells, c % cells]
                            dx, dy, dz = a + p[0] - x, b + p[1] - y, c + p[2] - z
                            d = dx * dx + dy * dy + dz * dz
                            if d < best:
                                best = d
                out[i, j, k] = 1.0 - math.sqrt(best)


@inner
def _slope(a, b, c, cells, seed, dx, dy, dz):
    a, b, c = a % cells, b % cells, c % cells
    u = 2.0 * hash_unit(a * cells + b, c + 613 * seed, 5) - 1.0
    v = 2.0 * math.pi * hash_unit(a * cells + b, c + 613 * seed, 7)
    s = math.sqrt(max(1.0 - u * u, 0.0))
    return s * math.cos(v) * dx + s * math.sin(v) * dy + u * dz


@solver
def _gradient(cells, seed, i0, i1, out):
    """Gradient noise on planes i0 … i1. Source: Perlin 1985, quintic blend of 2002."""
    slopes = np.empty((cells, cells, cells, 3))
    for a in range(cells):
        for b in range(cells):
            for c in range(cells):
                slopes[a, b, c, 0] = _slope(a, b, c, cells, seed, 1.0, 0.0, 0.0)
                slopes[a, b, c, 1] = _slope(a, b, c, cells, seed, 0.0, 1.0, 0.0)
                slopes[a, b, c, 2] = _slope(a, b, c, cells, seed, 0.0, 0.0, 1.0)
    scale = cells / SIZE
    for i in range(i0, i1):
        for j in range(SIZE):
            for k in range(SIZE):
                x, y, z = (i + 0.5) * scale, (j + 0.5) * scale, (k + 0.5) * scale
                cx, cy, cz = int(x), int(y), int(z)
                fx, fy, fz = x - cx, y - cy, z - cz
                wx = fx * fx * fx * (fx * (fx * 6.0 - 15.0) + 10.0)
                wy = fy * fy * fy * (fy * (fy * 6.0 - 15.0) + 10.0)
                wz = fz * fz * fz * (fz * (fz * 6.0 - 15.0) + 10.0)
                total = 0.0
                for a in range(2):
                    for b in range(2):
                        for c in range(2):
                            g = slopes[(cx + a) % cells, (cy + b) % cells, (cz + c) % cells]
                            w = ((wx if a else 1 - wx) * (wy if b else 1 - wy)
                                 * (wz if c else 1 - wz))
                            total += w * (g[0] * (fx - a) + g[1] * (fy - b) + g[2] * (fz - c))
                out[i, j, k] = total


def _volume(kernel, octaves, pool: ThreadPoolExecutor) -> Bytes:
    total = np.zeros((SIZE, SIZE, SIZE), dtype=np.float32)
    for seed, (cells, weight) in enumerate(octaves):
        one = np.empty_like(total)
        spans = [(i, min(i + 16, SIZE)) for i in range(0, SIZE, 16)]
        list(pool.map(lambda s, c=cells, n=seed, o=one: kernel(c, n + 1, s[0], s[1], o), spans))
        total += weight * (one - one.mean()) / one.std()
    total = SPREAD * (total - total.mean()) / total.std()
    levels = []
    for _ in range(LEVELS):
        levels.append(np.clip(np.round(127.5 + 127.5 * total), 0, 255).astype(np.uint8).ravel())
        half = total.shape[0] // 2
        total = total.reshape(half, 2, half, 2, half, 2).mean(axis=(1, 3, 5))
    return np.concatenate(levels)


def made_volumes() -> Bytes:
    """Billow and wisp volumes with their averages, flat, one behind the other: NOISE_BYTES."""
    with ThreadPoolExecutor(2) as pool:
        billow = _volume(_cellular, [(4, 1.0), (8, 0.5), (16, 0.27)], pool)
        wisp = _volume(_gradient, [(4, 1.0), (8, 0.55), (16, 0.3), (32, 0.16)], pool)
    return np.concatenate([billow, wisp])


@cache
def noise_volumes() -> Bytes:
    """`made_volumes`, kept beside the compiled kernels: they take a core over a second."""
    kept = FOLDER / "noise.bytes"
    with suppress(OSError):  # not made yet
        volumes = np.fromfile(kept, dtype=np.uint8)
        if volumes.size == NOISE_BYTES:
            return volumes
    volumes = made_volumes()
    part = kept.with_suffix(f".{os.getpid()}")
    try:
        volumes.tofile(part)
        part.replace(kept)
    except OSError:  # a folder that cannot be written, or is full: every process makes its own
        with suppress(OSError):
            part.unlink(missing_ok=True)
    return volumes


@inner
def noise_level(footprint_m, tile_m):
    """Averaged level whose voxels match a footprint; −1 when all detail is below it."""
    voxels = footprint_m / tile_m * SIZE
    level = 0
    while voxels > math.sqrt(2.0):
        voxels *= 0.5
        level += 1
        if level == LEVELS:
            return -1
    return level


@kernel
def wisp_lost(level):
    """Variance of the wisps that is averaged away at a level (tests measure it)."""
    if level < 0:
        return 0.158
    if level < 3:
        return 0.0 if level == 0 else (0.003 if level == 1 else 0.011)
    return 0.031 if level == 3 else (0.074 if level == 4 else 0.130)


@inner
def noise_at(volumes, start, x, y, z, level):
    """Trilinear value, about −1 … 1, at tile coordinates (1 = one tile); 0 for level −1.

    `start` is BILLOW or WISP.
    """
    if level < 0:
        return 0.0
    n = 128 >> level
    mask = n - 1
    shift = 7 - level
    px, py, pz = x * n - 0.5, y * n - 0.5, z * n - 0.5
    ix, iy, iz = math.floor(px), math.floor(py), math.floor(pz)
    fx, fy, fz = px - ix, py - iy, pz - iz
    if level == 1:
        start += 2097152
    elif level == 2:
        start += 2359296
    elif level == 3:
        start += 2392064
    elif level == 4:
        start += 2396160
    elif level == 5:
        start += 2396672
    x0, x1 = start + ((ix & mask) << (2 * shift)), start + (((ix + 1) & mask) << (2 * shift))
    y0, y1 = (iy & mask) << shift, ((iy + 1) & mask) << shift
    z0, z1 = iz & mask, (iz + 1) & mask
    a = volumes[x0 + y0 + z0] * (1 - fz) + volumes[x0 + y0 + z1] * fz
    b = volumes[x0 + y1 + z0] * (1 - fz) + volumes[x0 + y1 + z1] * fz
    c = volumes[x1 + y0 + z0] * (1 - fz) + volumes[x1 + y0 + z1] * fz
    d = volumes[x1 + y1 + z0] * (1 - fz) + volumes[x1 + y1 + z1] * fz
    ab = a * (1 - fy) + b * fy
    cd = c * (1 - fy) + d * fy
    return (ab * (1 - fx) + cd * fx) * (1.0 / 127.5) - 1.0


@inner
def turned_noise(volumes, start, x, y, z, tile_m, level, moved):
    """`noise_at` for metres, through a generic rotation; `moved` by tiles along its third axis."""
    s = 1.0 / tile_m
    return noise_at(
        volumes, start,
        s * (0.7991 * x + 0.5021 * y + 0.3307 * z),
        s * (-0.5853 * x + 0.5893 * y + 0.5567 * z),
        s * (0.0846 * x - 0.6381 * y + 0.7653 * z) + moved,
        level,
    )
