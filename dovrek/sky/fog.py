"""Fog: cloud on the ground, by how far one sees in it."""

from __future__ import annotations

from typing import Literal

from dovrek.sky.parameter import Group, choice, number


class Fog(Group):
    present: bool = choice(
        False, group="Fog", label="Fog", help="Cloud that lies on the ground.",
    )
    sight_m: float = number(
        300.0, low=20.0, high=10000.0, step=10.0, unit="m", group="Fog", label="Sight",
        scale="log", help="How far one sees in it: below 1000 m it is fog, above it mist.",
    )
    lies: Literal["ground", "level"] = choice(
        "ground", group="Fog", label="Lies", help="ground: it lies on the ground and follows the "
        "land. level: it fills hollows of the land up to a height.",
    )
    depth_m: float = number(
        60.0, low=2.0, high=1500.0, step=5.0, unit="m", group="Fog", label="Depth",
        scale="log", help="How deep it lies on the ground; of a level one, how far below its top "
        "it is at its thickest.",
    )
    level_m: float = number(
        100.0, low=0.0, high=6000.0, step=10.0, unit="m", group="Fog", label="Level",
        help="Height above the sea that a level fog reaches up to.",
    )
    patchiness: float = number(
        0.3, low=0.0, high=1.0, step=0.05, unit="", group="Fog", label="Patchiness",
        help="0: even, with a smooth top. 1: banks and wisps with clear air between them.",
    )
    size_km: float = number(
        0.9, low=0.1, high=20.0, step=0.1, unit="km", group="Fog", label="Size of patches",
        scale="log", help="From one patch to the next.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Fog", label="Seed",
        help="Another seed puts the patches elsewhere.",
    )
    from_deg: float = number(
        250.0, low=0.0, high=360.0, step=5.0, unit="°", group="Its drift", label="From",
        help="Bearing it drifts from, clockwise from north.",
    )
    speed_m_s: float = number(
        1.0, low=0.0, high=20.0, step=0.5, unit="m/s", group="Its drift", label="Speed",
        help="How fast it drifts in the clip.",
    )
