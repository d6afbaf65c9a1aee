"""A grey ball, a mirror ball and a white cube on a plane, lit by a dome and beams."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import inner, kernel, solver
from dovrek.core.compile.noise import hash_unit
from dovrek.core.lighting.totals import Vector, directions
from dovrek.core.run.workers import Cancel, Workers

PLANE, GREY, MIRROR, CUBE = 0.18, 0.18, 0.9, 0.8  # reflectances
RADIUS = 0.5  # of the balls, metres; the cube's edges are as long as a ball is wide
PLACES = ((-1.35, 0.0), (0.0, 0.15), (1.35, 0.0))  # of grey ball, mirror ball, cube
EYE, AIM, HALF_WIDTH = (0.0, -6.2, 1.9), (0.0, 0.0, 0.42), 0.36  # looking north
CELLS = (48, 24)  # of the dome as matt bodies see it
SAMPLES = 2  # a pixel, each way
BRIGHT = 40.0  # over the brightest tenth: a body in the dome, taken out as a beam


class Lights(NamedTuple):
    """A dome (h, w, 3) of linear light with its middle bearing, and beams: where they come from,
    the light each gives on a plane turned to it."""

    dome: NDArray[np.float32]
    centre_rad: float
    beams: tuple[tuple[Vector, Vector], ...]


@inner
def _ball(ox, oy, oz, dx, dy, dz, x, y, z, r):
    """Distance to a ball along a ray from outside; below 0 when it is missed."""
    ax, ay, az = ox - x, oy - y, oz - z
    b = ax * dx + ay * dy + az * dz
    h = b * b - (ax * ax + ay * ay + az * az - r * r)
    if h <= 0.0:
        return -1.0
    return -b - math.sqrt(h)


@inner
def _hit(places, radius, ox, oy, oz, dx, dy, dz, normal):
    """What a ray meets first: −1 nothing, 0 plane, 1 grey ball, 2 mirror ball, 3 cube; its distance
    goes into normal[3], the surface's direction before it."""
    best, what = 1e9, -1
    if dz < -1e-9:
        t = -oz / dz
        if 1e-5 < t < best:
            best, what = t, 0
            normal[0], normal[1], normal[2] = 0.0, 0.0, 1.0
    for k in range(2):
        x, y = places[k, 0], places[k, 1]
        t = _ball(ox, oy, oz, dx, dy, dz, x, y, radius, radius)
        if 1e-5 < t < best:
            best, what = t, 1 + k
            normal[0] = (ox + t * dx - x) / radius
            normal[1] = (oy + t * dy - y) / radius
            normal[2] = (oz + t * dz - radius) / radius
    # The cube, turned by 30°.
    c, s = math.cos(math.pi / 6.0), math.sin(math.pi / 6.0)
    px, py = ox - places[2, 0], oy - places[2, 1]
    a0, a1, a2 = c * px + s * py, c * py - s * px, oz - radius
    b0, b1, b2 = c * dx + s * dy, c * dy - s * dx, dz
    near, far, side, sign = -1e9, 1e9, 0, 1.0
    for axis in range(3):
        a = a0 if axis == 0 else (a1 if axis == 1 else a2)
        b = b0 if axis == 0 else (b1 if axis == 1 else b2)
        if abs(b) < 1e-12:
            if abs(a) > radius:
                far = -1e9
            continue
        t0, t1 = (-radius - a) / b, (radius - a) / b
        if min(t0, t1) > near:
            near, side, sign = min(t0, t1), axis, -1.0 if b > 0.0 else 1.0
        far = min(far, max(t0, t1))
    if near < far and 1e-5 < near < best:
        best, what = near, 3
        n0 = sign if side == 0 else 0.0
        n1 = sign if side == 1 else 0.0
        normal[0], normal[1] = c * n0 - s * n1, s * n0 + c * n1
        normal[2] = sign if side == 2 else 0.0
    normal[3] = best
    return what


@kernel
def _seen(dome, centre, dx, dy, dz, out):
    """Light of the dome in a direction, between its pixels."""
    height, width, _ = dome.shape
    u = (math.atan2(dx, dy) - centre) / (2.0 * math.pi) + 0.5
    v = 0.5 - math.asin(clamp(dz, -1.0, 1.0)) / math.pi
    a, b = u * width - 0.5, clamp(v * height - 0.5, 0.0, height - 1.0)
    i, j = math.floor(a), min(int(b), height - 2)
    fa, fb = a - i, b - j
    i0, i1 = int(i) % width, (int(i) + 1) % width
    for c in range(3):
        out[c] = ((dome[j, i0, c] * (1.0 - fa) + dome[j, i1, c] * fa) * (1.0 - fb)
                  + (dome[j + 1, i0, c] * (1.0 - fa) + dome[j + 1, i1, c] * fa) * fb)


@inner
def _matt(places, radius, cells, light, beams, beam_light, lit, x, y, z, nx, ny, nz, own, first,
          turned, meeting, out):
    """Light that falls on a matt surface at a place: cells of the dome and beams that are in sight
    of it, and the plane's own light from below. Each look within a pixel takes one in so many of
    the cells, from `first` on, all `turned` by a part of one, so that no edge of shadow is cut
    into as many steps as there are cells."""
    looks = SAMPLES * SAMPLES
    turn = (turned - 0.5) * 2.0 * math.pi / CELLS[0]
    tc, ts = math.cos(turn), math.sin(turn)
    out[0], out[1], out[2] = 0.0, 0.0, 0.0
    for k in range(first, len(cells), looks):
        vx, vy = tc * cells[k, 0] - ts * cells[k, 1], ts * cells[k, 0] + tc * cells[k, 1]
        cosine = vx * nx + vy * ny + cells[k, 2] * nz
        if cosine <= 0.0:
            continue
        met = _hit(places, radius, x, y, z, vx, vy, cells[k, 2], meeting)
        weight = looks * cosine * cells[k, 3]
        for c in range(3):
            if met < 0:
                out[c] += weight * light[k, c]
            elif met == 0:
                out[c] += weight * lit[c] * PLANE / math.pi
            else:  # about as bright as the plane
                out[c] += weight * lit[c] * own / math.pi * 0.5
    for k in range(len(beams)):
        cosine = beams[k, 0] * nx + beams[k, 1] * ny + beams[k, 2] * nz
        if cosine <= 0.0:
            continue
        if _hit(places, radius, x, y, z, beams[k, 0], beams[k, 1], beams[k, 2], meeting) < 0:
            for c in range(3):
                out[c] += cosine * beam_light[k, c]


@solver
def _rows(places, radius, frame, dome, centre, cells, light, beams, beam_light, lit, r0, r1, out):
    """Rows r0 … r1 of the picture; `frame` holds eye, forward, right, up, half width."""
    height, width, _ = out.shape
    looks = SAMPLES * SAMPLES
    normal, meeting, found, fallen = np.empty(4), np.empty(4), np.empty(3), np.empty(3)
    total = np.empty(3)
    for row in range(r0, r1):
        for column in range(width):
            total[0], total[1], total[2] = 0.0, 0.0, 0.0
            for sub in range(looks):
                a = (column + (sub % SAMPLES + 0.5) / SAMPLES) / width * 2.0 - 1.0
                b = (1.0 - (row + (sub // SAMPLES + 0.5) / SAMPLES) / height * 2.0)
                a, b = a * frame[4, 0], b * frame[4, 0] * height / width
                dx = frame[1, 0] + a * frame[2, 0] + b * frame[3, 0]
                dy = frame[1, 1] + a * frame[2, 1] + b * frame[3, 1]
                dz = frame[1, 2] + a * frame[2, 2] + b * frame[3, 2]
                norm = 1.0 / math.sqrt(dx * dx + dy * dy + dz * dz)
                dx, dy, dz = dx * norm, dy * norm, dz * norm
                x, y, z = frame[0, 0], frame[0, 1], frame[0, 2]
                share = 1.0
                what = _hit(places, radius, x, y, z, dx, dy, dz, normal)
                if what == 2:  # the mirror shows what it meets
                    t = normal[3]
                    x, y, z = x + t * dx, y + t * dy, z + t * dz
                    turn = 2.0 * (dx * normal[0] + dy * normal[1] + dz * normal[2])
                    dx, dy, dz = dx - turn * normal[0], dy - turn * normal[1], dz - turn * normal[2]
                    share = MIRROR
                    what = _hit(places, radius, x, y, z, dx, dy, dz, normal)
                if what < 0 or what == 2:
                    _seen(dome, centre, dx, dy, dz, found)
                    for c in range(3):
                        total[c] += share * found[c]
                    continue
                own = PLANE if what == 0 else (GREY if what == 1 else CUBE)
                t = normal[3]
                _matt(places, radius, cells, light, beams, beam_light, lit, x + t * dx, y + t * dy,
                      z + t * dz, normal[0], normal[1], normal[2], own,
                      (sub + row + column) % looks, hash_unit(row, column, 31 + sub), meeting,
                      fallen)
                for c in range(3):
                    total[c] += share * fallen[c] * own / math.pi
            for c in range(3):
                out[row, column, c] = total[c] / looks


def without_bodies(lights: Lights) -> Lights:
    """The same lights with what is far brighter than all else in the dome, a sun's disc, taken out
    and added as a beam, so that its shadow has an edge."""
    dome = lights.dome
    luminance = dome.mean(axis=2)
    limit = BRIGHT * max(float(np.quantile(luminance[::4, ::4], 0.9)), 1e-9)
    rows, columns = np.nonzero(luminance > limit)
    if len(rows) == 0 or len(rows) > 0.02 * luminance.size:
        return lights
    vectors, solid = directions(dome.shape[1], dome.shape[0], lights.centre_rad)
    own = np.median(dome[max(rows.min() - 3, 0) : rows.max() + 4].reshape(-1, 3), axis=0)
    given = (dome[rows, columns] - own) * solid[rows][:, None]
    where = (vectors[rows, columns] * given.sum(axis=1)[:, None]).sum(axis=0)
    where /= np.linalg.norm(where)
    x, y, z = (float(v) for v in where)
    r, g, b = (float(v) for v in given.sum(axis=0))
    rest = dome.copy()
    rest[rows, columns] = own
    return Lights(rest, lights.centre_rad, (*lights.beams, ((x, y, z), (r, g, b))))


def proof_picture(lights: Lights, size: tuple[int, int], workers: Workers, cancel: Cancel
                  ) -> NDArray[np.float32]:
    """(h, w, 3) linear light of the bodies under lights, looking north. Raises Cancelled."""
    lights = without_bodies(lights)
    width, height = size
    columns, rows = CELLS
    vectors, solid = directions(columns, rows, lights.centre_rad)
    small = _shrunk(lights.dome, rows, columns)
    cells = np.concatenate([vectors, np.broadcast_to(solid[:, None, None], (rows, columns, 1))],
                           axis=2).reshape(-1, 4)
    beams = np.array([v for v, _ in lights.beams]).reshape(-1, 3)
    beam_light = np.array([e for _, e in lights.beams]).reshape(-1, 3)
    # Light on the open plane.
    up = np.maximum(cells[:, 2], 0.0) * cells[:, 3]
    flat = small.reshape(-1, 3)
    lit = up @ flat + (np.maximum(beams[:, 2], 0.0) @ beam_light if len(beams) else 0.0)
    out = np.empty((height, width, 3), dtype=np.float32)
    places = np.array(PLACES)
    frame = _frame()
    workers.over(cancel, 4)(lambda r0, r1: _rows(
        places, RADIUS, frame, lights.dome, lights.centre_rad, cells, flat, beams, beam_light, lit,
        r0, r1, out), height)
    return out


def _shrunk(dome: NDArray[np.float32], rows: int, columns: int) -> NDArray[np.float64]:
    """Means of a dome over fewer cells, each pixel by its solid angle."""
    height, width, _ = dome.shape
    weight = np.cos((0.5 - (np.arange(height) + 0.5) / height) * math.pi)
    row = np.minimum(np.arange(height) * rows // height, rows - 1)
    column = np.minimum(np.arange(width) * columns // width, columns - 1)
    across = np.zeros((height, columns, 3))
    for c in range(3):
        for y in range(height):
            across[y, :, c] = np.bincount(column, dome[y, :, c], columns)
    across /= np.bincount(column, minlength=columns)[None, :, None]
    total, sums = np.zeros((rows, columns, 3)), np.zeros(rows)
    np.add.at(total, row, across * weight[:, None, None])
    np.add.at(sums, row, weight)
    return np.asarray(total / sums[:, None, None])


def _frame() -> NDArray[np.float64]:
    eye, aim = np.array(EYE), np.array(AIM)
    forward = (aim - eye) / np.linalg.norm(aim - eye)
    right = np.cross(forward, (0.0, 0.0, 1.0))
    right /= np.linalg.norm(right)
    return np.stack([eye, forward, right, np.cross(right, forward), np.full(3, HALF_WIDTH)])

