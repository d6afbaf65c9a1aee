"""Changes to a sky: set a value, add, remove, duplicate a layer. Pure; returns a new sky."""

from __future__ import annotations

import re
from typing import Any

from dovrek.sky.document import LAYER_LIMIT, Sky
from dovrek.sky.errors import Fault, SkyConflict, SkyError
from dovrek.sky.genera import (
    GENUS_DEFAULTS,
    WORDS,
    defaults_of,
    merge_defaults,
)
from dovrek.sky.reading import sky_from_data, sky_to_data

# What a layer keeps when it becomes another genus.
KEPT = ("id", "name", "visible", "locked", "frozen", "seed", "cover_oktas", "clearings")
ALWAYS_FREE = ("locked", "visible", "name")  # what a lock does not hold
# What deals a layer's composition, and stays as it is while the layer is frozen.
COMPOSITION = ("genus", "species", "varieties", "seed", "cells", "clearings", "rows", "region",
               "map", "cyclone", "systems")
COPIED = {"body": ("body", "wash"), "cells": ("cells", "clearings", "rows"), "life": ("life",),
          "wind": ("wind",), "light": ("light", "fall")}
STEP = re.compile(r"[A-Za-z_][A-Za-z0-9_]*|\[[A-Za-z0-9_-]+\]")


def _parts(path: str) -> list[str]:
    parts = STEP.findall(path)
    if not parts or re.sub(r"\.", "", STEP.sub("", path)):
        raise SkyError([Fault(path or "path", path, "is not a place in a sky",
                              "write it like layers[layer-1].base_m")])
    return parts


def _layer_index(layers: list[dict[str, Any]], token: str) -> int:
    wanted = token[1:-1]
    for index, layer in enumerate(layers):
        if layer["id"] == wanted:
            return index
    if wanted.isdecimal() and len(wanted) < 4 and int(wanted) < len(layers):
        return int(wanted)
    raise SkyConflict(f"There is no layer {wanted[:60]} any more; reload the sky.")


def with_values(sky: Sky, values: dict[str, Any]) -> Sky:
    """The sky with values set at dotted paths; layers go by id: ``layers[ID].body.fray``.

    Raises SkyError for a value or path that is refused, SkyConflict for a layer that is gone.
    """
    document = sky_to_data(sky)
    for path in values:
        within = next((p for p in values if p != path and re.match(
            rf"{re.escape(path)}[.\[]", p)), None)
        if within is not None:
            raise SkyError([Fault(within[:60], path[:60], "is set together with what holds it",
                                  "set one of the two")])
    for path, value in values.items():
        place: Any = document
        parts = _parts(path)
        for token in parts[:-1]:
            if token.startswith("["):
                place = place[_layer_index(place, token)]
            elif isinstance(place, dict) and token in place:
                place = place[token]
            else:
                raise SkyError([Fault(path, token, "is an unknown key", "check the path")])
        last = parts[-1]
        if not isinstance(place, dict) or last not in place:
            raise SkyError([Fault(path, last, "is an unknown key", "check the path")])
        if parts[0] == "layers" and len(parts) > 2 and place.get(last) != value:
            layer = document["layers"][_layer_index(document["layers"], parts[1])]
            refuse_held(layer, path, parts[2])
        if len(parts) == 3 and parts[0] == "layers" and place.get(last) != value:
            _take_word(place, last, value)
        place[last] = value
    return sky_from_data(document)


def put_values(sky: Sky, values: dict[str, Any]) -> Sky:
    """The sky with values put at paths that are there, whatever is locked: for what moves by
    itself. Raises SkyError."""
    document = sky_to_data(sky)
    for path, value in values.items():
        place: Any = document
        parts = _parts(path)
        for token in parts[:-1]:
            place = place[_layer_index(place, token)] if token.startswith("[") else place[token]
        place[parts[-1]] = value
    return sky_from_data(document)


def refuse_held(layer: dict[str, Any], path: str, key: str) -> None:
    """Refuse to change what a lock or a freeze holds."""
    title = layer["name"] or layer["genus"]
    if layer["locked"] and key not in ALWAYS_FREE:
        raise SkyError([Fault(path, title, "is locked", "unlock the layer first")])
    if layer["frozen"] is not None and key in COMPOSITION:
        raise SkyError([Fault(path, title, "is frozen: its composition stays as it is",
                              "let the layer go first (Frozen, in its head)")])


def _take_word(layer: dict[str, Any], key: str, value: Any) -> None:
    """Let a newly chosen genus, species, variety or feature set the controls it stands for."""
    if key == "genus" and isinstance(value, str) and value in GENUS_DEFAULTS:
        kept = {name: layer[name] for name in KEPT}
        wind = layer["wind"]["from_deg"]
        fresh = defaults_of(value, "", [], [])
        layer.clear()
        layer.update(merge_defaults({**kept, "genus": value, "wind": {"from_deg": wind}}, fresh))
    elif key in WORDS:
        known = WORDS[key].get(layer.get("genus", ""), {})
        before = layer.get(key) or []
        chosen = [w for w in (value if isinstance(value, list) else [value])
                  if isinstance(w, str) and w in known]
        had = before if isinstance(before, list) else [before]
        plain = defaults_of(layer["genus"], "", [], [])
        for word in had:  # what a word had set goes back to the genus
            if word in known and word not in chosen:
                _overlay(layer, known[word], plain)
        for word in chosen:
            if word not in had:
                _overlay(layer, known[word], known[word])


def _overlay(target: dict[str, Any], names: dict[str, Any], values: dict[str, Any]) -> None:
    """Set in `target` every key that `names` has to what `values` says (omitted: left out, so
    that it takes its default)."""
    for key, inner in names.items():
        if isinstance(inner, dict):
            group = target.setdefault(key, {})
            given = values.get(key, {})
            _overlay(group, inner, given if isinstance(given, dict) else {})
        elif key in values:
            target[key] = values[key]
        else:
            target.pop(key, None)


def fresh_layer_id(sky: Sky) -> str:
    taken = {layer.id for layer in sky.layers}
    return next(f"layer-{n}" for n in range(1, 10_000) if f"layer-{n}" not in taken)


def groups_between(before: Sky, after: Sky) -> tuple[str, ...]:
    """Names of the document's groups that differ between two skies, in its order."""
    return tuple(name for name in Sky.model_fields
                 if getattr(before, name) != getattr(after, name))


def with_layer_added(sky: Sky, genus: str, base_m: float | None = None) -> tuple[Sky, str]:
    """A layer of the genus with its defaults, at a base if given; returns its id too."""
    if genus not in GENUS_DEFAULTS:
        raise SkyError([Fault("genus", genus, "is not a known genus",
                              f"use one of: {', '.join(GENUS_DEFAULTS)}")])
    room_for_one(sky)
    document = sky_to_data(sky)
    new: dict[str, Any] = {"id": fresh_layer_id(sky), "genus": genus,
                           "seed": 1 + 17 * len(sky.layers)}
    if base_m is not None:
        new["base_m"] = base_m
    document["layers"].append(new)
    return sky_from_data(document), new["id"]


def room_for_one(sky: Sky) -> None:
    if len(sky.layers) >= LAYER_LIMIT:
        raise SkyError([Fault("layers", f"{len(sky.layers)} layers", "are all a sky holds",
                              "remove one first")])


def _index_of(sky: Sky, layer_id: str) -> int:
    for index, layer in enumerate(sky.layers):
        if layer.id == layer_id:
            return index
    raise SkyConflict(f"There is no layer {layer_id} any more; reload the sky.")


def with_layer_removed(sky: Sky, layer_id: str) -> Sky:
    document = sky_to_data(sky)
    at = _index_of(sky, layer_id)
    refuse_held(document["layers"][at], f"layers[{layer_id}]", "")
    del document["layers"][at]
    keys = document["motion"]["keys"]  # what moved it goes with it
    document["motion"]["keys"] = {p: k for p, k in keys.items()
                                  if not p.startswith(f"layers[{layer_id}].")}
    return sky_from_data(document)


def with_layer_duplicated(sky: Sky, layer_id: str) -> tuple[Sky, str]:
    """A copy of a layer, dealt anew and somewhat higher."""
    room_for_one(sky)
    document = sky_to_data(sky)
    copy = dict(document["layers"][_index_of(sky, layer_id)])
    copy["id"] = fresh_layer_id(sky)
    copy["seed"] = (copy["seed"] + 101) % 999_999
    copy["base_m"] = min(copy["base_m"] * 1.25, 16_000.0)
    copy["locked"], copy["frozen"] = False, None
    document["layers"].append(copy)
    return sky_from_data(document), copy["id"]


def with_layer_frozen(sky: Sky, layer_id: str, frozen: bool) -> Sky:
    """The sky with a layer's composition held, or let go; let go, it is dealt by the sky's seed
    as that is by then."""
    document = sky_to_data(sky)
    layer = document["layers"][_index_of(sky, layer_id)]
    refuse_held(layer, f"layers[{layer_id}].frozen", "frozen")
    layer["frozen"] = sky.seed if frozen else None
    return sky_from_data(document)


def with_layer_dealt(sky: Sky, layer_id: str, seed: int | None = None) -> Sky:
    """The sky with a layer dealt anew: by the next seed, or by a given one."""
    at = _index_of(sky, layer_id)
    now = sky.layers[at].seed
    return with_values(sky, {f"layers[{layer_id}].seed": (now + 1) % 1_000_000
                             if seed is None else seed})


def with_values_copied(sky: Sky, source: str, target: str, parts: list[str]) -> Sky:
    """The sky with groups of values (keys of COPIED) copied from one layer to another.

    Raises SkyError for a part that is not known or a layer that is held.
    """
    unknown = [x for x in parts if x not in COPIED]
    if unknown or not parts:
        raise SkyError([Fault("parts", ", ".join(unknown) or "nothing", "cannot be copied",
                              f"choose from: {', '.join(COPIED)}")])
    document = sky_to_data(sky)
    given = document["layers"][_index_of(sky, source)]
    taking = document["layers"][_index_of(sky, target)]
    for part in parts:
        for key in COPIED[part]:
            refuse_held(taking, f"layers[{target}].{key}", key)
            taking[key] = given[key]
    return sky_from_data(document)


def difference(before: Sky, after: Sky) -> list[str]:
    """Dotted paths at which two skies differ (a layer that came or went by its id)."""
    found: list[str] = []

    def walk(a: Any, b: Any, path: str) -> None:
        if isinstance(a, dict) and isinstance(b, dict):
            for key in a.keys() | b.keys():
                walk(a.get(key), b.get(key), f"{path}.{key}" if path else key)
        elif a != b:
            found.append(path)

    first, second = sky_to_data(before), sky_to_data(after)
    layers_a = {x["id"]: x for x in first.pop("layers")}
    layers_b = {x["id"]: x for x in second.pop("layers")}
    walk(first, second, "")
    for key in sorted(layers_a.keys() | layers_b.keys()):
        if key in layers_a and key in layers_b:
            walk(layers_a[key], layers_b[key], f"layers[{key}]")
        else:
            found.append(f"layers[{key}]")
    return sorted(found)
