"""The library: recipes that ship with the product and those an artist saved, as one."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files

from dovrek.sky.document import Sky
from dovrek.sky.recipe import Recipe, recipe_from_text, shipped, with_layer_from
from dovrek.store.tables import StoredRecipe

OWN = "own-"


class NoSuchRecipe(LookupError):
    """There is no recipe of that key."""


@dataclass(frozen=True)
class Entry:
    """One recipe of the library."""

    key: str
    recipe: Recipe
    own: bool
    pictured: bool

    @property
    def name(self) -> str:
        return self.recipe.name


def _picture_file(slug: str) -> bytes | None:
    path = files("dovrek.store").joinpath("recipe_pictures", f"{slug}.jpg")
    return path.read_bytes() if path.is_file() else None


def _stored(row: StoredRecipe) -> Entry:
    return Entry(f"{OWN}{row.id}", recipe_from_text(str(row.document)), True,
                 row.picture is not None)


def entries(kind: str = "", genus: str = "", words: str = "") -> list[Entry]:
    """Recipes of a kind and genus whose name or notes hold all words; the artist's own first."""
    found = [_stored(r) for r in StoredRecipe.select().order_by(StoredRecipe.created.desc())]
    found += [Entry(slug, r, False, True) for slug, r in shipped().items()]
    wanted = words.lower().split()

    def suits(entry: Entry) -> bool:
        recipe = entry.recipe
        text = " ".join([recipe.name, recipe.notes, *recipe.genera]).lower()
        return ((not kind or recipe.kind == kind) and (not genus or genus in recipe.genera)
                and all(word in text for word in wanted))

    return [e for e in found if suits(e)]


def entry(key: str) -> Entry:
    """A recipe by its key. Raises NoSuchRecipe."""
    if key.startswith(OWN) and key[len(OWN):].isdigit():
        row = StoredRecipe.get_or_none(StoredRecipe.id == int(key[len(OWN):]))
        if row is not None:
            return _stored(row)
    elif key in shipped():
        return Entry(key, shipped()[key], False, True)
    raise NoSuchRecipe(f"There is no recipe '{key[:60]}'; see the Recipes page.")


def picture(key: str) -> tuple[bytes, str] | None:
    """A recipe's picture and its type."""
    if key.startswith(OWN):
        row = StoredRecipe.get_or_none(StoredRecipe.id == int(key[len(OWN):] or 0)
                                       ) if key[len(OWN):].isdigit() else None
        return (bytes(row.picture), "image/png") if row and row.picture is not None else None
    data = _picture_file(key) if key in shipped() else None
    return (data, "image/jpeg") if data else None


def save(recipe: Recipe, png: bytes | None = None) -> str:
    """Keep a recipe; returns its key."""
    row = StoredRecipe.create(name=recipe.name, document=recipe.text(), picture=png)
    return f"{OWN}{row.id}"


def keep_picture(key: str, png: bytes) -> None:
    StoredRecipe.update(picture=png).where(StoredRecipe.id == int(key[len(OWN):])).execute()


def remove(key: str) -> None:
    """Take one of the artist's own recipes out of the library. Raises NoSuchRecipe."""
    found = entry(key)
    if not found.own:
        raise NoSuchRecipe(f"'{found.name}' ships with the product and stays.")
    StoredRecipe.delete().where(StoredRecipe.id == int(key[len(OWN):])).execute()


def suiting(genus: str) -> list[Entry]:
    """Recipes of layers of a genus."""
    return entries("layer", genus)


def layer_replaced(sky: Sky, layer_id: str, found: Entry) -> Sky:
    return with_layer_from(sky, layer_id, found.recipe)
