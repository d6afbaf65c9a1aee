"""Make `dovrek/core/data/blue_noise.npy`: ranks of a 64 × 64 tile without low frequencies.

Source: Ulichney 1993, the void-and-cluster method. `python -m tools.blue_noise` writes it anew.
"""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

SIDE, SIGMA, FIRST = 64, 1.5, 0.1
FILE = Path(__file__).parent.parent / "dovrek" / "core" / "data" / "blue_noise.npy"


def _bell() -> NDArray[np.float64]:
    """Energy around a point at (0, 0) of the wrapped tile."""
    d = np.minimum(np.arange(SIDE), SIDE - np.arange(SIDE))
    return np.exp(-(d[:, None] ** 2 + d[None, :] ** 2) / (2.0 * SIGMA**2))


def void_and_cluster(seed: int = 4) -> NDArray[np.uint16]:
    """(64, 64) ranks 0 … 4095; each leading share of them is spread as evenly as can be."""
    bell = _bell()

    def around(point: tuple[int, int]) -> NDArray[np.float64]:
        return np.roll(bell, point, axis=(0, 1))

    def place(index: np.intp) -> tuple[int, int]:
        return int(index) // SIDE, int(index) % SIDE

    rng = np.random.default_rng(seed)
    count = int(FIRST * SIDE * SIDE)
    there = np.zeros(SIDE * SIDE, dtype=bool)
    there[rng.permutation(SIDE * SIDE)[:count]] = True
    there = there.reshape(SIDE, SIDE)
    energy = np.zeros((SIDE, SIDE))
    for point in zip(*np.nonzero(there), strict=True):
        energy += around(point)
    while True:  # move the tightest point into the largest void until it stays where it is
        tightest = place(np.argmax(np.where(there, energy, -np.inf)))
        there[tightest] = False
        energy -= around(tightest)
        largest = place(np.argmin(np.where(there, np.inf, energy)))
        there[largest] = True
        energy += around(largest)
        if largest == tightest:
            break
    ranks = np.zeros((SIDE, SIDE), dtype=np.uint16)
    kept, left = there.copy(), energy.copy()
    for rank in range(count - 1, -1, -1):
        tightest = place(np.argmax(np.where(kept, left, -np.inf)))
        kept[tightest] = False
        left -= around(tightest)
        ranks[tightest] = rank
    for rank in range(count, SIDE * SIDE):
        largest = place(np.argmin(np.where(there, np.inf, energy)))
        there[largest] = True
        energy += around(largest)
        ranks[largest] = rank
    return ranks


if __name__ == "__main__":
    np.save(FILE, void_and_cluster())
