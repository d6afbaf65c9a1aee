"""Tops and flanks that bulge, of clouds that are drawn by their outline on the map."""

from __future__ import annotations

from dovrek.core.compile.kernels import inner
from dovrek.core.compile.noise import BILLOW, noise_level, turned_noise

LUMP = 0.05  # of the thickness, by which tops and flanks bulge


@inner
def lump_of(p):
    """By how much they bulge, metres."""
    return (0.4 + 1.2 * p.lobes) * LUMP * p.thickness


@inner
def bulged(field, p, x, y, z, f, footprint, detail):
    """A signed distance with its lumps, a little swollen by what is averaged over; and over how
    many metres the edge fills."""
    thick, lump = p.thickness, lump_of(p)
    tile = max(1.6 * p.cell_size, 0.2 * thick)
    f += lump * turned_noise(field.bytes, BILLOW, x, y, z, tile, noise_level(footprint, tile),
                             p.churn)
    if detail > 0.0:
        fine = 0.31 * tile
        f += 0.42 * lump * turned_noise(field.bytes, BILLOW, y, z, x, fine,
                                        noise_level(footprint, fine), p.churn_fine)
    soft = 0.5 * min(footprint, 0.3 * thick)
    return f + 0.25 * soft, p.edge + soft
