"""Primaries that linear files may have."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from dovrek.core.colour.spectrum import XYZ_TO_RGB, Array

# Bradford cone responses (Lam 1985), by which whites are adapted to each other.
BRADFORD = np.array([[0.8951, 0.2664, -0.1614], [-0.7502, 1.7135, 0.0367],
                     [0.0389, -0.0685, 1.0296]])
D65 = (0.3127, 0.3290)


class Primaries(NamedTuple):
    """A set of primaries with its white."""

    name: str
    title: str
    chromaticities: tuple[float, ...]  # x and y of red, green, blue and white
    from_xyz: Array  # (3, 3); what is neutral under D65 is neutral in them


def _white(x: float, y: float) -> Array:
    return np.array([x / y, 1.0, (1.0 - x - y) / y])


def _matrix(chromaticities: tuple[float, ...]) -> Array:
    """RGB of XYZ, D65 adapted to the set's own white (SMPTE RP 177 for the primaries)."""
    points = np.array(chromaticities).reshape(4, 2)
    corners = np.stack([_white(x, y) for x, y in points[:3]], axis=1)
    white = _white(*points[3])
    to_xyz = corners * np.linalg.solve(corners, white)
    ratio = (BRADFORD @ white) / (BRADFORD @ _white(*D65))
    adapted = np.linalg.inv(BRADFORD) @ np.diag(ratio) @ BRADFORD
    return np.asarray(np.linalg.inv(to_xyz) @ adapted)


REC709 = Primaries("rec709", "Rec. 709",
                   (0.640, 0.330, 0.300, 0.600, 0.150, 0.060, *D65), XYZ_TO_RGB)
_AP1 = (0.713, 0.293, 0.165, 0.830, 0.128, 0.044, 0.32168, 0.33767)  # Academy S-2014-004
AP1 = Primaries("ap1", "AP1", _AP1, _matrix(_AP1))
PRIMARIES = {p.name: p for p in (REC709, AP1)}
