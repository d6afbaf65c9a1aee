"""A cloud layer: one genus between a base and a top."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, model_validator

from dovrek.sky.parameter import Group, choice, number

Genus = Literal["cumulus", "stratus", "altocumulus", "cirrus"]

# Believable starting values by genus; heights are the usual ones of temperate latitudes
# (WMO International Cloud Atlas: étages), sizes common practice.
GENUS_DEFAULTS: dict[str, dict[str, Any]] = {
    "cumulus": {
        "base_m": 1100.0,
        "thickness_m": 1000.0,
        "cover_oktas": 3.0,
        "cells": {"size_m": 1500.0, "spread": 0.5, "huddle": 0.35},
        "clearings": {"share": 0.15, "size_km": 14.0},
        "body": {"density_per_km": 70.0, "fray": 0.3, "lobes": 0.6, "edge_m": 14.0},
        "wind": {"from_deg": 240.0},
    },
    "stratus": {
        "base_m": 450.0,
        "thickness_m": 380.0,
        "cover_oktas": 8.0,
        "cells": {"size_m": 1900.0, "spread": 0.5, "huddle": 0.0},
        "clearings": {"share": 0.0, "size_km": 12.0},
        "body": {"density_per_km": 30.0, "fray": 0.35, "lobes": 0.4, "edge_m": 120.0},
        "wind": {"from_deg": 240.0, "comb": 0.2},
    },
    "altocumulus": {
        "base_m": 3600.0,
        "thickness_m": 260.0,
        "cover_oktas": 4.0,
        "cells": {"size_m": 520.0, "spread": 0.5, "huddle": 0.2},
        "clearings": {"share": 0.15, "size_km": 20.0},
        "body": {"density_per_km": 24.0, "fray": 0.35, "lobes": 0.45, "edge_m": 50.0},
        "wind": {"from_deg": 250.0, "comb": 0.35},
    },
    "cirrus": {
        "base_m": 8600.0,
        "thickness_m": 1100.0,
        "cover_oktas": 3.0,
        "cells": {"size_m": 5200.0, "spread": 0.5, "huddle": 0.3},
        "clearings": {"share": 0.2, "size_km": 40.0},
        "body": {"density_per_km": 0.9, "fray": 0.6, "lobes": 0.3, "edge_m": 200.0},
        "wind": {"from_deg": 265.0, "comb": 0.7},
    },
}


class Cells(Group):
    size_m: float = number(
        1500.0, low=200.0, high=20000.0, step=50.0, unit="m", group="Cells", label="Size",
        scale="log", help="Distance from one cloud (or lump, or tuft) to the next: larger "
        "gives fewer, bigger clouds.",
    )
    spread: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cells", label="Spread",
        genera=("cumulus",), help="How unequal the clouds are: 0 all alike, 1 giants among scraps.",
    )
    huddle: float = number(
        0.35, low=0.0, high=1.0, step=0.05, unit="", group="Cells", label="Huddle",
        genera=("cumulus",), help="How far neighbouring clouds are drawn together into groups.",
    )


class Clearings(Group):
    share: float = number(
        0.0, low=0.0, high=0.9, step=0.05, unit="", group="Cover", label="Clearings",
        help="Share of the sky kept as large openings without cloud of this layer; the cover "
        "stays as set and gathers between them.",
    )
    size_km: float = number(
        14.0, low=2.0, high=120.0, step=1.0, unit="km", group="Cover", label="their size",
        scale="log", help="Distance from one clearing to the next.",
    )
    edge: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cover", label="their edge",
        help="How gradually the clouds thin out toward a clearing: 0 abrupt, 1 gradual.",
    )
    seed: int = number(
        0, low=0, high=999999, step=1, unit="", group="Cover", label="their seed",
        help="Another seed puts the clearings elsewhere and leaves the cells alone.",
    )


class Body(Group):
    density_per_km: float = number(
        30.0, low=0.05, high=200.0, step=1.0, unit="/km", group="Body", label="Density",
        scale="log", help="Extinction inside the cloud: how quickly light is scattered on its "
        "way through. Thick water cloud 30 to 100, ice about 1.",
    )
    lobes: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Lobes",
        genera=("cumulus", "stratus", "altocumulus"),
        help="How strongly the surface swells into rounded lumps.",
    )
    fray: float = number(
        0.3, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Fray",
        help="How far edges are eaten away into shreds and wisps.",
    )
    edge_m: float = number(
        40.0, low=4.0, high=500.0, step=2.0, unit="m", group="Body", label="Edge",
        scale="log", help="Distance over which the cloud grows from clear air to full density: "
        "small is crisp.",
    )


class Wind(Group):
    from_deg: float = number(
        250.0, low=0.0, high=360.0, step=5.0, unit="°", group="Wind", label="From",
        help="Bearing the wind blows from, clockwise from north.",
    )
    comb: float = number(
        0.4, low=0.0, high=1.0, step=0.05, unit="", group="Wind", label="Comb",
        genera=("cirrus", "stratus", "altocumulus"),
        help="How far the cloud is drawn out along the wind.",
    )


class Layer(Group):
    """One genus of cloud between a base and a top. Omitted keys take the genus's defaults."""

    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    name: str = choice("", group="Layer", label="Name", help="Shown on the band in the section.")
    genus: Genus = choice(
        "cumulus", group="Layer", label="Genus",
        help="The WMO genus: what family of cloud the layer is.",
    )
    visible: bool = choice(
        True, group="Layer", label="Shown",
        help="A hidden layer neither shows nor casts shadow.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Layer", label="Seed",
        help="Another seed deals the cells anew.",
    )
    base_m: float = number(
        1200.0, low=30.0, high=16000.0, step=50.0, unit="m", group="Height", label="Base",
        scale="log", help="Height of the cloud base above sea level.",
    )
    thickness_m: float = number(
        600.0, low=10.0, high=15000.0, step=50.0, unit="m", group="Height", label="Thickness",
        scale="log", help="From the base to the highest top the layer reaches.",
    )
    cover_oktas: float = number(
        4.0, low=0.0, high=8.0, step=0.25, unit="oktas", group="Cover", label="Cover",
        help="Eighths of the sky this layer hides. Changing it never moves the clouds.",
    )
    clearings: Clearings = Field(default_factory=lambda: Clearings())
    cells: Cells = Field(default_factory=lambda: Cells())
    body: Body = Field(default_factory=lambda: Body())
    wind: Wind = Field(default_factory=lambda: Wind())

    @property
    def top_m(self) -> float:
        return self.base_m + self.thickness_m

    @model_validator(mode="before")
    @classmethod
    def _genus_defaults(cls, given: Any) -> Any:
        """Fill omitted keys from the genus, so that a bare genus is a believable layer."""
        if not isinstance(given, dict):
            return given
        genus = given.get("genus", "cumulus")
        defaults = GENUS_DEFAULTS.get(genus) if isinstance(genus, str) else None
        if defaults is None:
            return given
        return merge_defaults(given, defaults)


def merge_defaults(given: dict[str, Any], defaults: dict[str, Any]) -> dict[str, Any]:
    """`given` with every key it omits taken from `defaults`, group by group."""
    merged = dict(given)
    for key, value in defaults.items():
        if key not in merged:
            merged[key] = dict(value) if isinstance(value, dict) else value
        elif isinstance(value, dict) and isinstance(merged[key], dict):
            merged[key] = merge_defaults(merged[key], value)
    return merged
