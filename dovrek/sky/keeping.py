"""What keeps a layer to a place: its region, bounds of a bank, and the land it follows."""

from __future__ import annotations

from typing import Literal

from dovrek.sky.parameter import Group, choice, number

Side = Literal["everywhere", "inside", "outside"]


class Region(Group):
    side: Side = choice(
        "everywhere", group="Region", label="Stands",
        help="Where the layer may stand. Two layers with equal shares, sizes and seeds, one "
        "inside and one outside, share the sky: one genus gives way to the other. The cover "
        "holds where the layer stands.",
    )
    share: float = number(
        0.5, low=0.05, high=0.95, step=0.05, unit="", group="Region", label="Share",
        help="Share of the sky that is inside.",
    )
    size_km: float = number(
        40.0, low=5.0, high=300.0, step=5.0, unit="km", group="Region", label="Size",
        scale="log", help="From the middle of one region to the next.",
    )
    edge: float = number(
        0.4, low=0.0, high=1.0, step=0.05, unit="", group="Region", label="Edge",
        help="How gradually the layer thins out toward the border: 0 abrupt, 1 gradual.",
    )
    seed: int = number(
        0, low=0, high=999999, step=1, unit="", group="Region", label="Seed",
        help="Another seed puts the regions elsewhere.",
    )


class Bounds(Group):
    shape: Literal["none", "ellipse", "box"] = choice(
        "none", group="Bank", label="Bank",
        help="A layer kept within bounds: its ends close softly in cover and height. Bounds drift "
        "with the layer.",
    )
    east_km: float = number(
        0.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Bank", label="East",
        help="Its middle, east of the site.",
    )
    north_km: float = number(
        8.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Bank", label="North",
        help="Its middle, north of the site.",
    )
    length_km: float = number(
        12.0, low=0.5, high=300.0, step=0.5, unit="km", group="Bank", label="Length",
        scale="log", help="Along its bearing, from end to end.",
    )
    width_km: float = number(
        6.0, low=0.5, high=300.0, step=0.5, unit="km", group="Bank", label="Width",
        scale="log", help="Across its bearing.",
    )
    bearing_deg: float = number(
        90.0, low=0.0, high=180.0, step=5.0, unit="°", group="Bank", label="Bearing",
        help="Bearing its length lies along, clockwise from north.",
    )
    edge: float = number(
        0.5, low=0.05, high=1.0, step=0.05, unit="", group="Bank", label="Soft end",
        help="Share of the way to the middle over which it closes; a quarter as far beyond its "
        "bounds nothing is left.",
    )


class Drape(Group):
    amount: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Drape", label="Drape",
        help="How far the layer follows the land below it: 0 level, 1 as the land.",
    )
    smooth_km: float = number(
        1.5, low=0.1, high=20.0, step=0.1, unit="km", group="Drape", label="Smoothing",
        scale="log", help="Distance over which the land is smoothed for it.",
    )
    gather: float = number(
        0.0, low=-1.0, high=1.0, step=0.05, unit="", group="Drape", label="Gathers",
        help="Where its cover gathers over the land: above 0 on ridges, below 0 in valleys, by how "
        "far the land decides against the layer's own pattern. The cover as a whole holds.",
    )
    contrast: float = number(
        0.4, low=0.0, high=1.0, step=0.05, unit="", group="Drape", label="Contrast",
        help="How sharply high land is told from low where cover gathers: 0 by degrees, 1 as a "
        "step.",
    )
