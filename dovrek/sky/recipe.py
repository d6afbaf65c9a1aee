"""Recipes: a layer, or a whole sky, saved for reuse; and those that ship with the product."""

from __future__ import annotations

import json
from functools import lru_cache
from importlib.resources import files
from typing import Any

from dovrek.sky.changes import COMPOSITION, fresh_layer_id, refuse_held, room_for_one
from dovrek.sky.document import LAYER_LIMIT, Sky
from dovrek.sky.errors import Fault, SkyError
from dovrek.sky.layer import Layer
from dovrek.sky.reading import data_from_text, sky_from_data, sky_to_data

RECIPE_VERSION = 1
NAME_LETTERS, NOTES_LETTERS = 80, 2000
KEYS = ("dovrek_recipe", "name", "notes", "layer", "sky")
OWN = ("id", "name", "visible", "locked")  # of a layer in a sky, not of its recipe
HIGHEST_BASE_M = 16_000.0


class Recipe:
    """A named layer or sky with notes. Exactly one of `layer` and `sky` is there."""

    def __init__(self, name: str, notes: str, layer: Layer | None, sky: Sky | None) -> None:
        self.name, self.notes, self.layer, self.sky = name, notes, layer, sky

    @property
    def kind(self) -> str:
        return "layer" if self.layer else "sky"

    @property
    def genera(self) -> tuple[str, ...]:
        """Genera in it, without repeats, in order."""
        layers = [self.layer] if self.layer else (self.sky.layers if self.sky else [])
        return tuple(dict.fromkeys(x.genus for x in layers))

    def data(self) -> dict[str, Any]:
        """As plain data, for export."""
        found: dict[str, Any] = {"dovrek_recipe": RECIPE_VERSION, "name": self.name,
                                 "notes": self.notes}
        if self.layer is not None:
            layer = self.layer.model_dump(mode="json")
            found["layer"] = {k: v for k, v in layer.items() if k not in OWN}
        elif self.sky is not None:
            found["sky"] = sky_to_data(self.sky)
        return found

    def text(self) -> str:
        return json.dumps(self.data(), indent=1, ensure_ascii=False)


def _words(given: dict[str, Any], key: str, most: int, needed: bool) -> str:
    value = given.get(key, "")
    if not isinstance(value, str) or len(value) > most or (needed and not value.strip()) or (
            needed and not value.isprintable()) or not _is_text(value):
        raise SkyError([Fault(key, repr(value)[:60], "is not a text of fitting length",
                              f"write {'1' if needed else '0'} to {most} characters")])
    return value.strip()


def _is_text(value: str) -> bool:
    try:
        value.encode()
    except UnicodeEncodeError:  # half of a pair that stands for one character
        return False
    return True


def recipe_from_data(given: Any) -> Recipe:
    """A validated recipe. Raises SkyError with the faults by their paths."""
    if not isinstance(given, dict) or "dovrek_recipe" not in given:
        raise SkyError([Fault("recipe", "the file", "is not a recipe",
                              'choose a recipe exported as JSON (it has "dovrek_recipe": 1)')])
    version = given["dovrek_recipe"]
    if version != RECIPE_VERSION or isinstance(version, bool):
        newer = isinstance(version, int) and version > RECIPE_VERSION
        raise SkyError([Fault("dovrek_recipe", repr(version)[:40],
                              "is a newer format than this release reads" if newer
                              else "is not a known format version",
                              "update the application, or export the recipe as version "
                              f"{RECIPE_VERSION}")])
    for key in given:
        if key not in KEYS:
            raise SkyError([Fault(str(key)[:60], "", "is an unknown key",
                                  f"known here: {', '.join(KEYS)}")])
    name = _words(given, "name", NAME_LETTERS, True)
    notes = _words(given, "notes", NOTES_LETTERS, False)
    layer, sky = given.get("layer"), given.get("sky")
    if (layer is None) == (sky is None):
        raise SkyError([Fault("recipe", "layer and sky", "must be one of the two",
                              "give one of them")])
    if sky is not None:
        return Recipe(name, notes, None, sky_from_data(sky))
    try:
        return Recipe(name, notes, sky_from_data({"dovrek": 1, "layers": [layer]}).layers[0], None)
    except SkyError as error:
        raise SkyError([Fault(f.path.replace("layers[0]", "layer", 1), f.value, f.text, f.mend)
                        for f in error.faults]) from None


def recipe_from_text(text: str | bytes) -> Recipe:
    """A validated recipe from JSON text. Raises SkyError."""
    return recipe_from_data(data_from_text(text, "recipe"))


def recipe_of_layer(sky: Sky, layer_id: str, name: str, notes: str) -> Recipe:
    """A recipe of one layer of a sky. Raises SkyError for a name or layer that is refused."""
    layer = next((x for x in sky.layers if x.id == layer_id), None)
    if layer is None:
        raise SkyError([Fault("layer", layer_id[:60], "is not in the sky", "choose a layer")])
    return recipe_from_data({"dovrek_recipe": 1, "name": name, "notes": notes, "layer": {
        k: v for k, v in layer.model_dump(mode="json").items() if k not in OWN}})


def recipe_of_sky(sky: Sky, name: str, notes: str) -> Recipe:
    return recipe_from_data({"dovrek_recipe": 1, "name": name, "notes": notes,
                             "sky": sky_to_data(sky)})


def with_recipe(sky: Sky, recipe: Recipe, base_m: float | None = None) -> tuple[Sky, str]:
    """The sky with a recipe's layers added; a single layer stands at `base_m` if given.

    Returns the id of the first new layer too. Raises SkyError when there is no room.
    """
    new = [recipe.layer] if recipe.layer else list(recipe.sky.layers if recipe.sky else [])
    if not new:
        raise SkyError([Fault("recipe", recipe.name, "has no layer to add",
                              "start a new sky from it instead")])
    if len(sky.layers) + len(new) > LAYER_LIMIT:
        room_for_one(sky)
        raise SkyError([Fault("layers", f"{len(sky.layers)} + {len(new)} layers", "are too many",
                              f"a sky holds at most {LAYER_LIMIT}; remove some first")])
    document, first = sky_to_data(sky), ""
    for layer in new:
        entry = layer.model_dump(mode="json") | {"id": fresh_layer_id(sky_from_data(document)),
                                                 "name": recipe.name if recipe.layer else
                                                 layer.name}
        if base_m is not None and recipe.layer:
            entry["base_m"] = base_m
        first = first or str(entry["id"])
        document["layers"].append(entry)
    return sky_from_data(document), first


def with_layer_from(sky: Sky, layer_id: str, recipe: Recipe) -> Sky:
    """The sky with one layer's values taken from a recipe of a layer; its place in the stack,
    id and name stay. Raises SkyError."""
    if recipe.layer is None:
        raise SkyError([Fault("recipe", recipe.name, "is a whole sky", "choose one of a layer")])
    document = sky_to_data(sky)
    for index, layer in enumerate(document["layers"]):
        if layer["id"] == layer_id:
            for key in COMPOSITION:  # a recipe sets all of a layer
                refuse_held(layer, f"layers[{layer_id}].{key}", key)
            kept = {k: layer[k] for k in (*OWN, "frozen")}
            document["layers"][index] = recipe.layer.model_dump(mode="json") | kept
    return sky_from_data(document)


@lru_cache(maxsize=1)
def shipped() -> dict[str, Recipe]:
    """Recipes that ship with the product, by slug: of layers first, then whole skies."""
    found: dict[str, Recipe] = {}
    for folder in ("layers", "starters"):
        for path in sorted(files("dovrek.sky").joinpath("shipped", folder).iterdir(),
                           key=lambda p: p.name):
            if path.name.endswith(".json"):
                found[path.name[:-5].partition("-")[2]] = recipe_from_text(path.read_text())
    return found


def starters() -> dict[str, Recipe]:
    """The shipped whole skies to start from, by slug."""
    return {slug: r for slug, r in shipped().items() if r.sky is not None}


def layer_recipes() -> dict[str, Recipe]:
    """The shipped layers, by slug."""
    return {slug: r for slug, r in shipped().items() if r.layer is not None}
