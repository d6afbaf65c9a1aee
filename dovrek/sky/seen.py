"""The layers of a sky that are seen, its fog as a layer on the ground among them."""

from __future__ import annotations

import math
from collections.abc import Iterable

from dovrek.sky.cyclone import Cyclone
from dovrek.sky.document import Sky
from dovrek.sky.hero import Hero
from dovrek.sky.keeping import Bounds, Region
from dovrek.sky.layer import Clearings, CoverMap, Layer
from dovrek.sky.wash import Wash
from dovrek.sky.weather_systems import Systems

GENUS = "fog"
SEEN = 3.0  # extinction times sight, where a dark thing keeps 5 % of its contrast (Koschmieder
# 1924; WMO-No. 8, meteorological optical range)
THINS = 0.6  # of its depth, over which it thins toward its top
DROPLETS_UM = 6.0
HEROES = "~heroes"  # in their layer's name, before a number from a second wash on; no layer of a
# document can have it
ROOM = 1.12  # over the highest, for its skin
FULL_WIDTH = 0.92  # of a full-grown cloud, over the size of its cells
ABOUT_M, LEAST_OKTAS = 40_000.0, 0.05  # side of the ground that cover is reckoned on


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


def heroes_layers(sky: Sky, layer: Layer) -> list[Layer]:
    """The clouds of a layer that are placed by hand, as layers of their own: one of those that
    have its wash, and one for each other wash."""
    washed: dict[str, tuple[Wash, list[Hero]]] = {layer.wash.model_dump_json(): (layer.wash, [])}
    for hero in layer.heroes:
        if not 0.0 < hero.stage < 1.0:
            continue
        wash = hero.washed(layer.wash)
        washed.setdefault(wash.model_dump_json(), (wash, []))[1].append(hero)
    return [_heroes_layer(sky, layer, wash, heroes, str(n) if n else "")
            for n, (wash, heroes) in enumerate(washed.values()) if heroes]


def _heroes_layer(sky: Sky, layer: Layer, wash: Wash, heroes: list[Hero], number: str) -> Layer:
    widest, highest = max(h.width_m for h in heroes), max(h.top_m for h in heroes)
    size = widest / FULL_WIDTH
    if any(h.taken for h in heroes):  # their lumps stay as large as they were
        size = max(size, layer.cells.size_m)
    wind = layer.wind.model_copy(update={"speed_m_s": 0.0}) if sky.motion.loop else layer.wind
    area = sum(math.pi * h.width_m**2 / 4.0 for h in heroes)
    return layer.model_copy(update={
        "id": layer.id + HEROES + number, "heroes": heroes, "wash": wash,
        "thickness_m": ROOM * highest,
        "cover_oktas": min(max(8.0 * area / ABOUT_M**2, LEAST_OKTAS), 8.0),
        "cells": layer.cells.model_copy(update={"size_m": size}),
        "body": layer.body.model_copy(update={
            "growth": 1.0, "growth_spread": 0.0, "anvil": max(h.anvil for h in heroes)}),
        "life": layer.life.model_copy(update={"cycle_s": 0.0}), "wind": wind,
        "clearings": Clearings(), "region": Region(), "map": CoverMap(), "bounds": Bounds(),
        "cyclone": Cyclone(), "systems": Systems(),
        "rows": layer.rows.model_copy(update={"share": 0.0}),
        "fall": layer.fall.model_copy(update={"amount": 0.0}),
    })


def unwashed(sky: Sky) -> Sky:
    """The sky without washes of their own for clouds placed by hand, for what knows no colours:
    those of a layer are then one layer."""
    layers = [x.model_copy(update={"heroes": [h.model_copy(update={"wash": None})
                                              for h in x.heroes]}) for x in sky.layers]
    keys = {path: k for path, k in sky.motion.keys.items() if not path.endswith("].wash")}
    return sky.model_copy(update={"layers": layers, "motion": sky.motion.model_copy(
        update={"keys": keys})})


def placed_by_hand(layer: Layer) -> bool:
    """Whether a layer is the heroes of another."""
    return HEROES in layer.id


def owner_of(layer_id: str) -> str:
    """The layer that heroes belong to; another is its own."""
    return layer_id.partition(HEROES)[0]


def owners_of(layer_ids: Iterable[str]) -> list[str]:
    """The layers that layers belong to, each once."""
    return list(dict.fromkeys(owner_of(x) for x in layer_ids))


def layers_of(sky: Sky) -> list[Layer]:
    """Layers that are shown and have any cloud, each followed by its heroes; the fog the last."""
    found: list[Layer] = []
    for layer in sky.layers:
        if not layer.visible:
            continue
        found += [layer] if layer.cover_oktas > 0.0 else []
        found += heroes_layers(sky, layer)
    fog = fog_layer(sky)
    return found + ([fog] if fog else [])
