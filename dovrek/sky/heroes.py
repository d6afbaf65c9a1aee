"""Changes to clouds placed by hand: place, duplicate, remove one. Pure; returns a new sky."""

from __future__ import annotations

from typing import Any

from dovrek.sky.changes import refuse_held
from dovrek.sky.document import Sky
from dovrek.sky.errors import Fault, SkyConflict, SkyError
from dovrek.sky.genera import HEAPS
from dovrek.sky.hero import HEROES_MOST
from dovrek.sky.reading import sky_from_data, sky_to_data

BESIDE = 1.15  # of its width, that a copy stands east of it


def _layer(document: dict[str, Any], layer_id: str) -> dict[str, Any]:
    found: dict[str, Any] | None = next((x for x in document["layers"] if x["id"] == layer_id),
                                        None)
    if found is None:
        raise SkyConflict(f"There is no layer {layer_id[:60]} any more; reload the sky.")
    refuse_held(found, f"layers[{layer_id}].heroes", "heroes")
    return found


def _at(layer: dict[str, Any], hero_id: str) -> int:
    for k, hero in enumerate(layer["heroes"]):
        if hero["id"] == hero_id:
            return k
    raise SkyConflict(f"There is no cloud {hero_id[:60]} any more; reload the sky.")


def _fresh_id(document: dict[str, Any]) -> str:
    taken = {h["id"] for x in document["layers"] for h in x["heroes"]}
    return next(f"hero-{n}" for n in range(1, HEROES_MOST + 2) if f"hero-{n}" not in taken)


def with_hero_placed(sky: Sky, layer_id: str, values: dict[str, Any]) -> tuple[Sky, str]:
    """The sky with a cloud placed in a heaped layer; its id too."""
    document = sky_to_data(sky)
    layer = _layer(document, layer_id)
    if layer["genus"] not in HEAPS:
        raise SkyError([Fault(f"layers[{layer_id}].heroes", layer["genus"], "has no single clouds",
                              f"place them in a layer of {' or '.join(HEAPS)}")])
    count = sum(len(x["heroes"]) for x in document["layers"])
    if count >= HEROES_MOST:
        raise SkyError([Fault("heroes", f"{count} clouds", "are all a sky holds",
                              "remove one first")])
    hero_id = _fresh_id(document)
    layer["heroes"].append({"seed": 1 + 13 * count, **values, "id": hero_id})
    return sky_from_data(document), hero_id


def with_hero_duplicated(sky: Sky, layer_id: str, hero_id: str) -> tuple[Sky, str]:
    """A copy of a cloud, beside it and of another seed."""
    document = sky_to_data(sky)
    layer = _layer(document, layer_id)
    copy = dict(layer["heroes"][_at(layer, hero_id)])
    copy["east_m"] = min(copy["east_m"] + BESIDE * copy["width_m"], 150_000.0)
    copy["seed"], copy["taken"] = (copy["seed"] + 101) % 1_000_000, None
    del copy["id"]
    return with_hero_placed(sky, layer_id, copy)


def with_hero_removed(sky: Sky, layer_id: str, hero_id: str) -> Sky:
    """The sky without a cloud, and without the keys that moved it."""
    document = sky_to_data(sky)
    layer = _layer(document, layer_id)
    del layer["heroes"][_at(layer, hero_id)]
    keys = document["motion"]["keys"]
    document["motion"]["keys"] = {
        p: k for p, k in keys.items()
        if not p.startswith(f"layers[{layer_id}].heroes[{hero_id}].")}
    return sky_from_data(document)
