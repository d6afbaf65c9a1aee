"""A turning storm as the arrangement of a layer."""

from __future__ import annotations

from typing import Literal

from dovrek.sky.parameter import Group, choice, number

Hemisphere = Literal["north", "south"]


class Cyclone(Group):
    stands: bool = choice(
        False, group="Cyclone", label="Turning storm",
        help="The layer as one turning storm: arms of cloud about an eyewall and an eye, under a "
        "shield of ice. Best seen from orbit, and from within.",
    )
    east_km: float = number(
        0.0, low=-3000.0, high=3000.0, step=10.0, unit="km", group="Cyclone", label="East",
        help="Its middle, east of the site.",
    )
    north_km: float = number(
        0.0, low=-3000.0, high=3000.0, step=10.0, unit="km", group="Cyclone", label="North",
        help="Its middle, north of the site.",
    )
    hemisphere: Hemisphere = choice(
        "north", group="Cyclone", label="Hemisphere",
        help="North of the equator storms turn against the clock, south of it with the clock.",
    )
    radius_km: float = number(
        450.0, low=60.0, high=2000.0, step=10.0, unit="km", group="Cyclone", label="Radius",
        scale="log", help="From the middle to where its outer arms end.",
    )
    wall_km: float = number(
        60.0, low=8.0, high=300.0, step=2.0, unit="km", group="Cyclone", label="Eyewall",
        scale="log", help="From the middle to the outer side of the eyewall.",
    )
    eye_km: float = number(
        20.0, low=0.0, high=150.0, step=1.0, unit="km", group="Cyclone", label="Eye",
        help="From the middle to the inner side of the eyewall; 0: it has no eye.",
    )
    arms: int = number(
        2, low=1, high=6, step=1, unit="", group="Cyclone", label="Arms",
        help="Great arms of cloud that wind about it.",
    )
    pitch_deg: float = number(
        17.0, low=8.0, high=40.0, step=1.0, unit="°", group="Cyclone", label="Pitch",
        help="Angle between an arm and a circle about the middle: small ones are wound tightly.",
    )
    width: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cyclone", label="Width of arms",
        help="0: threads of cloud; 1: arms that close the gaps between them.",
    )
    ragged: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cyclone", label="Raggedness",
        help="How torn arms and edges are: 0 as if drawn, 1 in shreds.",
    )
    shield: float = number(
        0.6, low=0.0, high=1.0, step=0.05, unit="", group="Cyclone", label="Ice shield",
        help="Thin ice that streams outward over the middle.",
    )
    outer_height: float = number(
        0.35, low=0.1, high=1.0, step=0.05, unit="", group="Cyclone", label="Outer height",
        help="Height of the outer arms over that of the eyewall.",
    )
    sea: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cyclone", label="Lower cells",
        help="Share of the sea about it that low cells of cloud cover.",
    )
    turn_h: float = number(
        9.0, low=1.0, high=100.0, step=0.5, unit="h", group="Cyclone", label="Turns in",
        scale="log", help="Hours of the sky in which its arms go round once; the inside goes "
        "faster.",
    )
