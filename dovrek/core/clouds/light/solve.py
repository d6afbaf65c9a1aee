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
from dovrek.core.compile.kernels import inner, kernel, part
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


@part
def _kept(sigma, half_way):
    """Share that scattered light keeps from a cell at a face to the next in clear air, as the
    Marshak condition has it: 2/(R+2) of the cell's value is at the face, R = 1.5 h K_t σ."""
    return max(4.0 / (half_way * sigma + 2.0) - 1.0, GHOST_LEAST)


@kernel
def _carry_aside(values, known, sigma, k_t, dx, dz, falls, new):
    """Give unknown cells the mean of their known neighbours; `new` marks what is known then (1).

    With `falls` the first channel goes on falling beyond the face. Cells at the border have
    themselves for neighbours, which are unknown and so count for nothing.
    """
    n, _, nz, channels = values.shape
    side, up, one = 1.5 * dx * k_t, 1.5 * dz * k_t, np.float32(1.0)
    for i in range(n):
        for j in range(n):
            w, e, s, t = max(i - 1, 0), min(i + 1, n - 1), max(j - 1, 0), min(j + 1, n - 1)
            for k in range(nz):
                if known[i, j, k] > 0.0:
                    continue
                d, u = max(k - 1, 0), min(k + 1, nz - 1)
                kw, ke, ks, kt = known[w, j, k], known[e, j, k], known[i, s, k], known[i, t, k]
                kd, ku = known[i, j, d], known[i, j, u]
                count = kw + ke + ks + kt + kd + ku
                if count == 0.0:
                    continue
                share = one / count
                for q in range(1 if falls else 0, channels):
                    values[i, j, k, q] = share * (
                        kw * values[w, j, k, q] + ke * values[e, j, k, q]
                        + ks * values[i, s, k, q] + kt * values[i, t, k, q]
                        + kd * values[i, j, d, q] + ku * values[i, j, u, q])
                if falls:
                    values[i, j, k, 0] = share * (
                        kw * _kept(sigma[w, j, k], side) * values[w, j, k, 0]
                        + ke * _kept(sigma[e, j, k], side) * values[e, j, k, 0]
                        + ks * _kept(sigma[i, s, k], side) * values[i, s, k, 0]
                        + kt * _kept(sigma[i, t, k], side) * values[i, t, k, 0]
                        + kd * _kept(sigma[i, j, d], up) * values[i, j, d, 0]
                        + ku * _kept(sigma[i, j, u], up) * values[i, j, u, 0])
                new[i, j, k] = one


def _extend(values: Array32, known: NDArray[np.bool_], sigma: Array32, k_t: float, dx: float,
            dz: float, falls: bool) -> None:
    """Carry values two cells into clear air, so that interpolation at edges stays right."""
    there = known.astype(np.float32)
    for turn in range(2):
        new = there.copy()
        _carry_aside(values, there, sigma, k_t, dx, dz, falls and turn == 0, new)
        there = new


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
