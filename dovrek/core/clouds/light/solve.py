"""Light that cloud scatters many times: a diffusion solve on nested grids.

Per cell: mean radiance of scattered sunlight and its flux, and the share of its surroundings'
light that comes from the sky above. Source: P1 (diffusion) approximation of the delta-scaled
medium with Marshak boundaries (Joseph, Wiscombe & Weinman 1976; Case & Zweifel 1967).
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.light.couplings import (
    MINUS_X,
    MINUS_Y,
    MINUS_Z,
    PLUS_X,
    PLUS_Y,
    PLUS_Z,
    Couplings,
)
from dovrek.core.clouds.light.grid import COARSER, Array32, GridShape
from dovrek.core.clouds.phase import DROPLETS, Phase
from dovrek.core.compile.kernels import inner, kernel
from dovrek.core.run.workers import Cancelled

GHOST_LEAST = 0.3  # keeps interpolated light beyond a dense face above zero



@inner
def _sinh_over(x):
    """sinh(x)/x."""
    if x < 1e-2:
        return 1.0 + x * x / 6.0
    e = math.exp(x)
    return (e - 1.0 / e) / (2.0 * x)


@kernel
def _sun_source(sigma, depth, turning, floor, dx, dz, sx, sy, sz, beam, source):
    """First-scattered light and the divergence of the beam's forward drift.

    `turning` is (K_s, K_t, D) of the phase function.
    """
    n, _, nz = sigma.shape
    k_s, k_t, drift = turning
    per4pi = 1.0 / (4.0 * math.pi)
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                if sigma[i, j, k] <= floor:
                    continue
                # Mean of e^(−Kd) over the cell: d varies about evenly along each axis, by no more
                # than leaves it positive everywhere.
                d = depth[i, j, k]
                after, before = depth[min(i + 1, n - 1), j, k], depth[max(i - 1, 0), j, k]
                vx = max(abs(after - d), abs(d - before))
                after, before = depth[i, min(j + 1, n - 1), k], depth[i, max(j - 1, 0), k]
                vy = max(abs(after - d), abs(d - before))
                after, before = depth[i, j, min(k + 1, nz - 1)], depth[i, j, max(k - 1, 0)]
                vz = max(abs(after - d), abs(d - before))
                most = 0.5 * (vx + vy + vz)
                fit = k_s * 0.5 * (min(d / most, 1.0) if most > 0.0 else 1.0)
                beam[i, j, k] = per4pi * math.exp(-k_s * d) * (
                    _sinh_over(fit * vx) * _sinh_over(fit * vy) * _sinh_over(fit * vz))
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                e = beam[i, j, k]
                s = k_s * own * e
                # Drift flux is −D E' s: outflow through a face with normal n is −D E' (s·n).
                rx = 1.5 * dx * k_t * own
                rz = 1.5 * dz * k_t * own
                fx, fz = rx / (rx + 2.0), rz / (rz + 2.0)
                ep, em = e * fx, e * fx
                if i < n - 1 and sigma[i + 1, j, k] > floor:
                    ep = 0.5 * (e + beam[i + 1, j, k])
                if i > 0 and sigma[i - 1, j, k] > floor:
                    em = 0.5 * (e + beam[i - 1, j, k])
                s += drift * sx * (ep - em) / dx
                ep, em = e * fx, e * fx
                if j < n - 1 and sigma[i, j + 1, k] > floor:
                    ep = 0.5 * (e + beam[i, j + 1, k])
                if j > 0 and sigma[i, j - 1, k] > floor:
                    em = 0.5 * (e + beam[i, j - 1, k])
                s += drift * sy * (ep - em) / dx
                ep, em = e * fz, e * fz
                if k < nz - 1 and sigma[i, j, k + 1] > floor:
                    ep = 0.5 * (e + beam[i, j, k + 1])
                if k > 0 and sigma[i, j, k - 1] > floor:
                    em = 0.5 * (e + beam[i, j, k - 1])
                s += drift * sz * (ep - em) / dz
                source[i, j, k] = s


@kernel
def _sky_source(sigma, floor, free, source):
    """Light of a unit sky through free faces: 1 from above, ½ from the sides, 0 from below."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                if sigma[i, j, k] > floor:
                    fr = free[i, j, k]
                    source[i, j, k] = fr[PLUS_Z] + 0.5 * (
                        fr[MINUS_X] + fr[PLUS_X] + fr[MINUS_Y] + fr[PLUS_Y])


@kernel
def _flux(sigma, drift, floor, dx, dz, sx, sy, sz, cx, cy, cz, free, beam, j_field, flux):
    """Flux of scattered sunlight at cell centres: the mean of what crosses opposite faces."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            for k in range(nz):
                own = sigma[i, j, k]
                if own <= floor:
                    continue
                jc = j_field[i, j, k]
                fr = free[i, j, k]
                out = fr[PLUS_X] * jc if cx[i, j, k] == 0.0 else (
                    cx[i, j, k] * (jc - j_field[i + 1, j, k]))
                into = -fr[MINUS_X] * jc if i == 0 or cx[i - 1, j, k] == 0.0 else (
                    cx[i - 1, j, k] * (j_field[i - 1, j, k] - jc))
                fx = 0.5 * (out + into) * dx - drift * beam[i, j, k] * sx
                out = fr[PLUS_Y] * jc if cy[i, j, k] == 0.0 else (
                    cy[i, j, k] * (jc - j_field[i, j + 1, k]))
                into = -fr[MINUS_Y] * jc if j == 0 or cy[i, j - 1, k] == 0.0 else (
                    cy[i, j - 1, k] * (j_field[i, j - 1, k] - jc))
                fy = 0.5 * (out + into) * dx - drift * beam[i, j, k] * sy
                out = fr[PLUS_Z] * jc if cz[i, j, k] == 0.0 else (
                    cz[i, j, k] * (jc - j_field[i, j, k + 1]))
                into = -fr[MINUS_Z] * jc if k == 0 or cz[i, j, k - 1] == 0.0 else (
                    cz[i, j, k - 1] * (j_field[i, j, k - 1] - jc))
                fz = 0.5 * (out + into) * dz - drift * beam[i, j, k] * sz
                size = math.sqrt(fx * fx + fy * fy + fz * fz)
                if size > jc > 0.0:
                    shrink = jc / size
                    fx, fy, fz = fx * shrink, fy * shrink, fz * shrink
                flux[i, j, k, 0] = fx
                flux[i, j, k, 1] = fy
                flux[i, j, k, 2] = fz


@kernel
def _start_from(coarse, fine, ratio):
    """First guess of a level from the coarser one around it."""
    n, _, nz = fine.shape
    for i in range(n):
        a = int((i + 0.5 - 0.5 * n) / ratio + 0.5 * n)
        for j in range(n):
            b = int((j + 0.5 - 0.5 * n) / ratio + 0.5 * n)
            for k in range(nz):
                fine[i, j, k] = coarse[a, b, k]


@inner
def _beside(known, i, j, near):
    """Mark (nz,) the unknown cells of a column that have a known neighbour; whether any has."""
    n, _, nz = known.shape
    west, east, south, north = max(i - 1, 0), min(i + 1, n - 1), max(j - 1, 0), min(j + 1, n - 1)
    own, found = known[i, j], False
    for k in range(nz):  # a column at the edge is its own neighbour, which marks nothing
        near[k] = (known[west, j, k] | known[east, j, k] | known[i, south, k]
                   | known[i, north, k])
    for k in range(nz - 1):
        near[k] |= own[k + 1]
        near[k + 1] |= own[k]
    for k in range(nz):
        near[k] = near[k] & ~own[k]
        found |= near[k]
    return found


@kernel
def _carry_aside(values, known, near, sigma, k_t, dx, dz, falls, new):
    """Give unknown cells the mean of their known neighbours; `new` marks what is known then.

    With `falls` the first channel goes on falling beyond the face as the Marshak condition has it:
    2/(R+2) of the cell's value at the face, R = 1.5 h K_t σ. `near` (nz,) is scratch.
    """
    n, _, nz, channels = values.shape
    for i in range(n):
        for j in range(n):
            if not _beside(known, i, j, near):
                continue
            for k in range(nz):
                if not near[k]:
                    continue
                count = 0
                for q in range(channels):
                    values[i, j, k, q] = 0.0
                for m in range(6):
                    a = i + (1 if m == 0 else (-1 if m == 1 else 0))
                    b = j + (1 if m == 2 else (-1 if m == 3 else 0))
                    c = k + (1 if m == 4 else (-1 if m == 5 else 0))
                    if (0 <= a < n and 0 <= b < n and 0 <= c < nz and known[a, b, c]):
                        keep = 1.0
                        if falls:
                            r = 1.5 * (dx if m < 4 else dz) * k_t * sigma[a, b, c]
                            keep = max(4.0 / (r + 2.0) - 1.0, GHOST_LEAST)
                        values[i, j, k, 0] += keep * values[a, b, c, 0]
                        for q in range(1, channels):
                            values[i, j, k, q] += values[a, b, c, q]
                        count += 1
                for q in range(channels):
                    values[i, j, k, q] /= count
                new[i, j, k] = True


def _extend(values: Array32, known: NDArray[np.bool_], sigma: Array32, k_t: float, dx: float,
            dz: float, falls: bool) -> None:
    """Carry values two cells into clear air, so that interpolation at edges stays right."""
    near = np.empty(known.shape[2], np.bool_)
    for turn in range(2):
        new = known.copy()
        _carry_aside(values, known, near, sigma, k_t, dx, dz, falls and turn == 0, new)
        known = new


def solve_sky(sigma: Array32, shape: GridShape, sweeps: tuple[int, int], sheet: bool,
              cancel: NDArray[np.uint8], phase: Phase = DROPLETS) -> Array32:
    """Share of unit sky light in every cell, (levels, n, n, nz); depends on density alone.

    `sheet`: the layer is level rather than heaped.
    """
    out = np.zeros(sigma.shape, dtype=np.float32)
    floor = clear_below(sigma)
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        work = Couplings(sigma[level], phase.k_transport, dx, shape.dz, floor, sheet)
        _check(cancel)
        source = np.zeros(sigma[level].shape, dtype=np.float32)
        _sky_source(work.medium, floor, work.free, source)
        first = level == shape.levels - 1
        if not first:
            _start_from(out[level + 1], out[level], COARSER)
        else:
            out[level] = 0.5
        work.relax(source, out[level], sweeps[0] if first else sweeps[1], cancel)
        _check(cancel)
        values = out[level][..., None].copy()
        _extend(values, work.medium > floor, work.medium, phase.k_transport, dx, shape.dz, False)
        out[level] = values[..., 0]
        _carry_down(out[level], work.medium, floor)
    return out


@kernel
def _carry_down(share, sigma, floor):
    """Below the cells under a cloud's base its share of sky light stays: fine lumps that hang
    lower than the grid knows are in the same shade."""
    n, _, nz = sigma.shape
    for i in range(n):
        for j in range(n):
            k = 0
            while k < nz and sigma[i, j, k] <= floor:
                k += 1
            if 2 < k < nz:
                for low in range(k - 2):
                    share[i, j, low] = share[i, j, k - 2]


def sheet_shares(sine: float) -> tuple[float, float]:
    """Of the light a level sheet scatters many times, and once widely: what is really there.

    At a grazing sun many small turns lead out of the upper face again, which neither diffusion
    nor the straight beam knows. Fitted together with the march's `LIMB` to the light of
    discrete ordinates (Stamnes et al. 1988) for depths 1 … 32; see docs/light.md.
    """
    mu = max(sine, 0.0)
    return 1.156 - 0.367 * math.exp(-4.57 * mu), 1.0 - 0.95 * math.exp(-5.52 * mu)


def solve_sun(sigma: Array32, depth: Array32, shape: GridShape, sun: tuple[float, float, float],
              sweeps: tuple[int, int], sheet: bool, cancel: NDArray[np.uint8],
              phase: Phase = DROPLETS) -> Array32:
    """Mean radiance and flux of scattered sunlight, (levels, n, n, nz, 4), unit irradiance.

    `sheet`: the layer is level rather than heaped.
    """
    out = np.zeros((*sigma.shape, 4), dtype=np.float32)
    floor = clear_below(sigma)
    before = np.zeros(sigma.shape[1:], dtype=np.float32)
    sx, sy, sz = sun
    turning = (phase.k_scaled, phase.k_transport, phase.drift)
    for level in range(shape.levels - 1, -1, -1):
        dx = shape.dx * COARSER**level
        work = Couplings(sigma[level], phase.k_transport, dx, shape.dz, floor, sheet)
        _check(cancel)
        beam = np.zeros(sigma[level].shape, dtype=np.float32)
        source = np.zeros(sigma[level].shape, dtype=np.float32)
        _sun_source(sigma[level], depth[level], turning, floor, dx, shape.dz, sx, sy, sz, beam,
                    source)
        _check(cancel)
        field = np.zeros_like(beam)
        first = level == shape.levels - 1
        if first:
            field[:] = beam
        else:
            _start_from(before, field, COARSER)
        work.relax(source, field, sweeps[0] if first else sweeps[1], cancel)
        _check(cancel)
        np.maximum(field, 0.0, out=field)
        flux = np.zeros((*field.shape, 3), dtype=np.float32)
        _flux(work.medium, phase.drift, floor, dx, shape.dz, sx, sy, sz, *work.faces, work.free,
              beam, field, flux)
        _check(cancel)
        before = field.copy()
        out[level, ..., 0] = field
        out[level, ..., 1:] = flux
        if sheet:
            out[level] *= sheet_shares(sz)[0]
        _extend(out[level], work.medium > floor, work.medium, phase.k_transport, dx, shape.dz, True)
    return out


def _check(cancel: NDArray[np.uint8]) -> None:
    if cancel[0]:
        raise Cancelled


def clear_below(sigma: Array32) -> float:
    """Extinction below which a cell counts as clear air."""
    return 2e-3 * float(sigma.max()) + 1e-9
