"""The layers of a sky that are seen, its fog as a layer on the ground among them."""

from __future__ import annotations

from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer

GENUS = "fog"
SEEN = 3.0  # extinction times sight, where a dark thing keeps 5 % of its contrast (Koschmieder
# 1924; WMO-No. 8, meteorological optical range)
THINS = 0.6  # of its depth, over which it thins toward its top
DROPLETS_UM = 6.0
DEEPEST = 0.98  # of a level's height above the ground, that its depth reaches


def fog_id(sky: Sky) -> str:
    """Its name among the layers: `fog`, unless one of them is called so."""
    taken, found = {x.id for x in sky.layers}, "fog"
    while found in taken:
        found += "-"
    return found


def depth_of(sky: Sky) -> float:
    """Metres from the ground at the site up to its top; 0 or less: there is none."""
    fog = sky.fog
    return fog.depth_m if fog.lies == "ground" else fog.level_m - sky.site.elevation_m


def fog_layer(sky: Sky) -> Layer | None:
    """The sky's fog, or None."""
    fog, depth = sky.fog, depth_of(sky)
    if not fog.present or depth <= 0.0:
        return None
    usual = Layer.model_validate({"genus": "stratus", "seed": fog.seed})
    thins = THINS * min(fog.depth_m, depth)
    return usual.model_copy(update={
        "id": fog_id(sky), "name": "Fog", "genus": GENUS, "base_m": sky.site.elevation_m,
        "thickness_m": depth, "cover_oktas": 8.0,
        "body": usual.body.model_copy(update={"density_per_km": 1e3 * SEEN / fog.sight_m,
                                              "edge_m": thins}),
        "cells": usual.cells.model_copy(update={"size_m": 1e3 * fog.size_km}),
        "rows": usual.rows.model_copy(update={"share": 0.0, "patchiness": fog.patchiness}),
        "wind": usual.wind.model_copy(update={"from_deg": fog.from_deg, "comb": 0.0,
                                              "speed_m_s": fog.speed_m_s}),
        "light": usual.light.model_copy(update={"droplet_radius_um": DROPLETS_UM}),
        "drape": usual.drape.model_copy(update={"amount": float(fog.lies == "ground"),
                                                "smooth_km": 0.0}),
    })


def layers_of(sky: Sky) -> list[Layer]:
    """Layers that are shown and have any cloud, the fog the last."""
    fog = fog_layer(sky)
    return [x for x in sky.layers if x.visible and x.cover_oktas > 0.0] + ([fog] if fog else [])
