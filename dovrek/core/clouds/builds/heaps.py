"""Heaped clouds: shapes that stand, merge and grow a skin."""

from __future__ import annotations

import math

from dovrek.core.clouds.builds.build import Build, LightCells, no_score
from dovrek.core.clouds.masks import region_at
from dovrek.core.clouds.record import EVAPORATES, HEAPED, TEARS
from dovrek.core.clouds.texture import TILT_U, TILT_V
from dovrek.core.compile.arithmetic import clamp, smoothstep
from dovrek.core.compile.kernels import inner, part
from dovrek.core.compile.noise import BILLOW, WISP, noise_at, noise_level, turned_noise
from dovrek.sky.layer import Layer

NEAR = 8.0  # metres that a step beside clouds goes at least
ERODED = 0.11  # of a cell's size that old age eats from all sides
TORN = 0.22  # fray above which the skin tears
FINEST = 0.34  # amplitude of the finest lumps over that of the next wider ones
# Strands of an anvil: width over its lumps, length over width, and how deep they cut.
STRAND_SPAN, STRAND_RUN, STRAND_DEPTH = 0.5, 8.0, 1.6

@inner
def _shape_distance(s, p, shape, u, v, w):
    """Signed distance (metres at full size) in a shape's grid by trilinear look-up."""
    n, nz = p.shape_n, p.shape_nz
    voxel = p.shape_voxel
    a = (u + p.shape_half_width) / voxel - 0.5
    b = (v + p.shape_half_width) / voxel - 0.5
    c = (w - p.shape_floor) / voxel
    a = clamp(a, 0.0, n - 1.001)
    b = clamp(b, 0.0, n - 1.001)
    c = clamp(c, 0.0, nz - 1.001)
    i, j, k = int(a), int(b), int(c)
    fa, fb, fc = a - i, b - j, c - k
    at = p.shapes_at + ((shape * n + i) * n + j) * nz + k
    e00 = s[at] * (1 - fc) + s[at + 1] * fc
    e01 = s[at + nz] * (1 - fc) + s[at + nz + 1] * fc
    at += n * nz
    e10 = s[at] * (1 - fc) + s[at + 1] * fc
    e11 = s[at + nz] * (1 - fc) + s[at + nz + 1] * fc
    value = (e00 * (1 - fb) + e01 * fb) * (1 - fa) + (e10 * (1 - fb) + e11 * fb) * fa
    return (value * (1.0 / 127.5) - 1.0) * p.shape_reach


@part
def _nearest(field, p, x, y, z, lump, first, last):
    """Distance to the clouds of a square's members first … last, joined where they meet: the
    distance without skin, then of the nearest cloud its size (1 when full grown), how far the
    place lies downwind in it, its age, its top, whether it is set back and how dense it is; and the
    distance to the circles of those that are not near."""
    period = p.period
    px = x - math.floor(x / period) * period
    py = y - math.floor(y / period) * period
    squash = p.shape_squash
    vertical = min(squash, 1.0)
    best, own, down, age, top, late = -1e9, 1.0, 0.0, 0.0, p.thickness, 0.0
    dense = 1.0
    outside = -1e9
    members_at, instances_at = p.members_at, p.instances_at
    for m in range(first, last):
        cloud = field.instances[instances_at + field.links[members_at + m]]
        dx, dy = px - cloud.x, py - cloud.y
        if dx > 0.5 * period:
            dx -= period
        elif dx < -0.5 * period:
            dx += period
        if dy > 0.5 * period:
            dy -= period
        elif dy < -0.5 * period:
            dy += period
        reach = cloud.reach
        inward = reach - math.sqrt(dx * dx + dy * dy)
        high = z - cloud.top - 0.5 * lump
        if inward < 0.0:
            outside = max(outside, min(inward, -high))
            continue
        if high > 0.0:
            outside = max(outside, -high)
            continue
        scale = cloud.scale
        if inward < best - 0.05 * p.cell_size * min(scale, 1.0):
            continue  # no deeper than its outline, it lies within a cloud already met
        u = (cloud.turn_cos * dx + cloud.turn_sin * dy) / scale
        v = (cloud.turn_cos * dy - cloud.turn_sin * dx) / scale
        scale = min(scale, 1.0)  # wider than full size never means higher
        tall = cloud.tall
        f = _shape_distance(field.bytes, p, cloud.shape, u, v, z / (scale * squash * tall))
        f = f * scale * min(vertical, squash * tall) - ERODED * cloud.age * p.cell_size * scale
        if f > best:
            own, age, top, late = scale, cloud.age, cloud.top, cloud.late
            dense = cloud.dense
            down = (dx * p.wind_x + dy * p.wind_y) / reach
        h = max(0.05 * p.cell_size * scale - abs(best - f), 0.0)
        best = max(best, f) + h * h / (0.2 * p.cell_size * scale)
    return best, own, down, age, top, late, dense, outside


@part
def _frayed(p, z, own, down, age, icy):
    """How far the skin is torn instead of heaped: downwind, low, on small, old and icy clouds."""
    fray = p.fray * clamp(0.30 + 0.45 * down + 0.55 * (1.0 - own)
                          + 0.35 * (1.0 - z / (0.35 * p.thickness + 1.0)), 0.0, 1.4)
    if age > 0.0:
        fray += age * (1.0 if p.ending == TEARS else 0.5)
    if icy > 0.0:
        fray += 0.8 * icy
    return min(fray, 1.0)


@part
def _skin(field, p, x, y, z, f, amplitude, fray, icy, footprint, detail):
    """A distance with the lumps and tears of the skin, of three sizes, and the strands of ice."""
    tile = 7.0 * amplitude + 40.0
    if p.curl > 0.0:
        reach = 0.55 * p.curl * amplitude
        level = noise_level(footprint, 2.6 * tile)
        a = turned_noise(field.bytes, WISP, x, y, z, 2.6 * tile, level, 0.0)
        b = turned_noise(field.bytes, WISP, y, z, x, 2.1 * tile, level, 0.0)
        x, y, z = x + 2.0 * reach * a, y + 2.0 * reach * b, z + reach * (a - b)
        f += 0.25 * p.curl * amplitude * a
    frozen = z if z > 0.9 * amplitude else 0.9 * amplitude - 0.3 * (0.9 * amplitude - z)
    # Lumps boil upward, along the axis of the noise that is most upright; their skin too.
    n = turned_noise(field.bytes, BILLOW, x, y, frozen, tile, noise_level(footprint, tile),
                     -p.churn)
    if fray > TORN:
        g = turned_noise(field.bytes, WISP, x, y, frozen, 1.3 * tile,
                         noise_level(footprint, 1.3 * tile), -p.churn)
        n = n * (1.0 - fray) + (1.15 * g - 0.18) * fray
    strand, a, b, span = 0.0, 0.0, 0.0, 1.0
    if icy > 0.0:  # combed out by the wind aloft
        span = STRAND_SPAN * tile
        u, v = x * p.wind_x + y * p.wind_y, y * p.wind_x - x * p.wind_y
        a, b = u / (STRAND_RUN * span), v / span
        strand = icy * noise_at(field.bytes, WISP, a, b, 0.4 * z / span + TILT_U * b + TILT_V * a,
                                noise_level(footprint, span))
        n = n * (1.0 - icy) + 1.6 * strand
    keep = smoothstep(-0.9 * amplitude, 0.25 * amplitude, f)
    f += amplitude * (n if n < 0.0 else n * keep) - 0.06 * amplitude
    if detail > 0 and abs(f) < 0.8 * amplitude:
        tile2 = 0.27 * tile
        a2 = 0.36 * amplitude
        level = noise_level(footprint, tile2)
        n2 = turned_noise(field.bytes, BILLOW, y, z, x, tile2, level, p.churn_fine)
        if fray > TORN:
            g = turned_noise(field.bytes, WISP, y, z, x, tile2, level, p.churn_fine)
            n2 = n2 * (1.0 - fray) + fray * 1.2 * g
        if icy > 0.0:
            g = noise_at(field.bytes, WISP, 3.1 * a, 3.4 * b, 1.3 * z / span + TILT_U * b,
                         noise_level(footprint, 0.3 * span))
            strand += 0.6 * icy * g
            n2 = n2 * (1.0 - icy) + 1.6 * icy * g
        if level >= 0:
            keep = smoothstep(-0.9 * a2, 0.4 * a2, f)
            f += a2 * (1.0 + 1.2 * fray) * (n2 if n2 < 0.0 else n2 * keep)
            if detail > 1 and abs(f) < 0.9 * a2:
                tile3 = 0.23 * tile2
                a3 = 0.30 * a2
                level = noise_level(footprint, tile3)
                if level >= 0:
                    n3 = turned_noise(field.bytes, BILLOW, z, x, y, tile3, level,
                                      -p.churn_fine)
                    keep = smoothstep(-0.9 * a3, 0.4 * a3, f)
                    f += a3 * (1.0 + 1.6 * fray) * (1.0 - icy) * (n3 if n3 < 0.0 else n3 * keep)
                    f = _finest(field, p, x, y, z, f, 0.25 * tile3, FINEST * a3, fray, icy,
                                footprint)
    return f, strand, x, y


@part
def _finest(field, p, x, y, z, f, tile, amplitude, fray, icy, footprint):
    """Two sizes more, which a long lens alone sees."""
    turn = 0
    while turn < 2 and abs(f) < 0.9 * amplitude:
        level = noise_level(footprint, tile)
        if level < 0:
            break
        if turn == 0:
            n = turned_noise(field.bytes, BILLOW, y, x, z, tile, level, p.churn_fine)
        else:
            n = turned_noise(field.bytes, BILLOW, x, z, y, tile, level, -p.churn_fine)
        keep = smoothstep(-0.9 * amplitude, 0.4 * amplitude, f)
        f += amplitude * (1.0 + 1.6 * fray) * (1.0 - icy) * (n if n < 0.0 else n * keep)
        tile, amplitude = 0.27 * tile, FINEST * amplitude
        turn += 1
    return f


@part
def _ragged(field, p, x, y, best, own, footprint):
    """How far the base is uneven at a place, metres above its level."""
    ragged = p.round_base * (14.0 + 26.0 * p.fray) * turned_noise(
        field.bytes, WISP, x, y, 0.0, 1400.0, noise_level(footprint, 1400.0), p.churn_slow)
    if p.round_base > 1.0:  # the base rises toward the rim
        ragged += (0.45 * (p.round_base - 1.0)
                   * max(0.09 * p.cell_size * own - max(best, 0.0), 0.0))
    return ragged


@part
def _square_of(p, x, y):
    """The lattice's square that a place lies in."""
    period, squares = p.period, p.squares
    i = min(int((x - math.floor(x / period) * period) / period * squares), squares - 1)
    j = min(int((y - math.floor(y / period) * period) / period * squares), squares - 1)
    return i * squares + j


@part
def _lump_of(p):
    """Amplitude of the skin of a full-grown cloud, metres."""
    return 0.052 * min(p.cell_size, 3600.0) * (0.35 + 1.1 * p.lobes)


@inner
def plan(field, p, x, y, footprint):
    """Of a column: how far the nearest circle of a cloud is that it lies outside of, the height
    above which it is clear, and whether it lies within a circle."""
    square = _square_of(p, x, y)
    first, last = field.links[p.starts_at + square], field.links[p.starts_at + square + 1]
    if first == last:
        return max(field.clearances[p.clearances_at + square], 20.0), 1e9, 0.0, 0.0
    period = p.period
    px, py = x - math.floor(x / period) * period, y - math.floor(y / period) * period
    aside, within, high, highest = 1e9, False, -1e9, -1e9
    for m in range(first, last):
        cloud = field.instances[p.instances_at + field.links[p.members_at + m]]
        dx, dy = abs(px - cloud.x), abs(py - cloud.y)
        dx, dy = min(dx, period - dx), min(dy, period - dy)
        away = math.sqrt(dx * dx + dy * dy) - cloud.reach
        highest = max(highest, cloud.top)
        if away > 0.0:
            aside = min(aside, away)
        else:
            within, high = True, max(high, cloud.top)
    over = 0.5 * _lump_of(p)
    if within:
        return aside, high + over, 1.0, 0.0
    return aside, highest + over, 0.0, 0.0


@part
def on_plan(field, p, x, y, z, plan, footprint, detail):
    """Signed distance and extinction in a column whose plan is known."""
    aside, over, within = plan[0], z - plan[1], plan[2] > 0.0
    if not within:
        return -max(aside, over, NEAR), 0.0
    if over > 0.0:
        return -max(min(aside, over), NEAR), 0.0
    return sample(field, p, x, y, z, footprint, detail)


@inner
def sample(field, p, x, y, z, footprint, detail):
    """Signed distance and extinction among heaped clouds."""
    square = _square_of(p, x, y)
    first, last = field.links[p.starts_at + square], field.links[p.starts_at + square + 1]
    if first == last:
        return -max(field.clearances[p.clearances_at + square], 20.0), 0.0
    # The skin swells with the size of the cells; its amplitude bounds what it can change.
    lump = _lump_of(p)
    best, own, down, age, top, late, dense, outside = _nearest(field, p, x, y, z, lump, first,
                                                               last)
    if best < -1e8:
        return min(outside, -NEAR), 0.0
    x, y = x - late * p.back_x, y - late * p.back_y  # its skin is its own, wherever it was born
    if p.masked > 0.0:  # clouds shrink toward the border and are gone beyond it
        best -= 0.45 * p.cell_size * own * (1.0 - region_at(field, p, x, y, footprint))
    amplitude = (lump * min(0.35 + 0.65 * own, 1.0)
                 * min(min(p.shape_squash, 1.0) * 1.6, 1.0) * p.skin)
    if best < -0.55 * amplitude:
        # Outward swelling fades with distance (`keep` in the skin) and ends here.
        return max(best + 0.45 * amplitude, outside), 0.0
    if (best > 1.6 * amplitude + p.edge and z > 0.35 * p.thickness and age <= 0.0
            and p.anvil <= 0.0):
        return best, dense * p.extinction  # deep inside: the skin cannot reach here
    icy = 0.0
    if p.anvil > 0.0:  # high up the towers turn to ice: soft, combed, thinner
        icy = math.sqrt(p.anvil) * smoothstep(0.56, 0.8, z / top)
    fray = _frayed(p, z, own, down, age, icy)
    f, strand, x, y = _skin(field, p, x, y, z, best, amplitude, fray, icy, footprint, detail)
    ragged = 0.0
    if z < 0.35 * p.thickness:
        ragged = _ragged(field, p, x, y, best, own, footprint)
    soft = 0.5 * footprint  # an edge averaged over a pixel is wider and begins farther out
    f = min(f, z - ragged - 8.0) + 0.25 * soft
    if f <= 0.0:
        return f - 0.5, 0.0
    edge = p.edge * (1.0 + 5.0 * fray * fray + 6.0 * icy) + soft
    body = min(f / edge, 1.0) * (1.0 - 0.6 * fray * fray) * (1.0 - 0.6 * icy)
    if icy > 0.0:
        body *= max(1.0 + STRAND_DEPTH * strand, 0.12)
    if age > 0.0:
        body *= 1.0 - age * (0.85 if p.ending == EVAPORATES else 0.45)
    return f, dense * p.extinction * body * (0.72 + 0.28 * min(z / (0.3 * p.thickness + 1.0), 1.0))


def step_m(layer: Layer) -> float:
    """Basic step of the march, metres: soft edges need no short ones."""
    soft = 0.25 * layer.body.edge_m * (1.0 + 5.0 * layer.body.fray**2)
    fine = min(0.013 * layer.cells.size_m, 0.05 * layer.thickness_m)
    return min(max(fine, soft, 3.0), 30.0)


def cells_of(size_m: float, thick_m: float, sigma_per_m: float) -> LightCells:
    """Cells of the light grid: fine enough for one cloud."""
    return LightCells(min(max(size_m / 24.0, 25.0), 250.0), int(min(max(thick_m / 45.0, 12), 34)))


BUILD = Build("heaps", HEAPED, sample, no_score, step_m, cells_of, even=True, plan=plan,
              on_plan=on_plan)
