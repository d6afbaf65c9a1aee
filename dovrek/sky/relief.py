"""The land: an invented relief that stands on the level ground."""

from __future__ import annotations

from typing import Literal

from dovrek.sky.parameter import Group, choice, number


class Relief(Group):
    form: Literal["none", "hills", "mountain", "island"] = choice(
        "none", group="Land", label="Land",
        help="What stands on the level ground: hills, one mountain, or an island with a low shore. "
        "Invented by its seed; no real place.",
    )
    extent_km: float = number(
        14.0, low=2.0, high=120.0, step=1.0, unit="km", group="Land", label="Extent",
        scale="log", help="Side of the square it stands in; it runs out to the level ground at its "
        "border.",
    )
    highest_m: float = number(
        420.0, low=10.0, high=6000.0, step=10.0, unit="m", group="Land", label="Highest",
        scale="log", help="Its highest place, above the level ground.",
    )
    ruggedness: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Land", label="Ruggedness",
        help="0: worn and round. 1: ridges and gullies.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Land", label="Seed",
        help="Another seed makes another land of the same kind.",
    )
    east_km: float = number(
        0.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Place", label="East",
        help="Its middle, east of the site.",
    )
    north_km: float = number(
        10.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Place", label="North",
        help="Its middle, north of the site.",
    )
    turn_deg: float = number(
        0.0, low=-180.0, high=180.0, step=5.0, unit="°", group="Place", label="Turn",
        help="Turned clockwise as seen from above.",
    )
    albedo: float = number(
        0.14, low=0.0, high=0.95, step=0.01, unit="", group="Ground", label="Albedo",
        help="Share of light it returns: wood 0.06, rock and heath 0.14, grass 0.2, snow 0.8. Its "
        "tint is the ground's.",
    )
