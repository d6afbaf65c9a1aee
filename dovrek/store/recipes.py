"""The library: recipes that ship with the product and those an artist saved, as one."""

from __future__ import annotations

from dataclasses import dataclass
from importlib.resources import files

from dovrek.sky.document import Sky
from dovrek.sky.recipe import Recipe, recipe_from_text, shipped, with_layer_from
from dovrek.store.documents import full_text, kept_text
from dovrek.store.skies import number_in
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
    return Entry(f"{OWN}{row.id}", recipe_from_text(full_text(str(row.document))), True,
                 row.picture is not None)


def entries(kind: str = "", genus: str = "", words: str = "") -> list[Entry]:
    """Recipes of a kind and genus whose name or notes hold all words; the artist's own first."""
    found = [e for e, _ in _own() if e is not None]
    found += [Entry(slug, r, False, True) for slug, r in shipped().items()]
    wanted = words.lower().split()

    def suits(entry: Entry) -> bool:
        recipe = entry.recipe
        text = " ".join([recipe.name, recipe.notes, *recipe.genera]).lower()
        return ((not kind or recipe.kind == kind) and (not genus or genus in recipe.genera)
                and all(word in text for word in wanted))

    return [e for e in found if suits(e)]


def _own() -> list[tuple[Entry | None, StoredRecipe]]:
    """The artist's own, newest first, each by itself: one that cannot be read hides no other."""
    found: list[tuple[Entry | None, StoredRecipe]] = []
    for row in StoredRecipe.select().order_by(StoredRecipe.created.desc()):
        try:
            found.append((_stored(row), row))
        except Exception:  # whatever another hand left there
            found.append((None, row))
    return found


def unreadable() -> list[tuple[str, str]]:
    """Keys and names of own recipes that cannot be read here."""
    return [(f"{OWN}{row.id}", str(row.name)) for e, row in _own() if e is None]


def raw_text(key: str) -> str:
    """The text of a recipe, read or not. Raises NoSuchRecipe."""
    row = StoredRecipe.get_or_none(StoredRecipe.id == number_in(key[len(OWN):])
                                   ) if key.startswith(OWN) else None
    return entry(key).recipe.text() if row is None else full_text(str(row.document))


def entry(key: str) -> Entry:
    """A recipe by its key. Raises NoSuchRecipe."""
    if key.startswith(OWN):
        row = StoredRecipe.get_or_none(StoredRecipe.id == number_in(key[len(OWN):]))
        if row is not None:
            return _stored(row)
    elif key in shipped():
        return Entry(key, shipped()[key], False, True)
    raise NoSuchRecipe(f"There is no recipe '{key[:60]}'; see the Recipes page.")


def picture(key: str) -> tuple[bytes, str] | None:
    """A recipe's picture and its type."""
    if key.startswith(OWN):
        row = StoredRecipe.get_or_none(StoredRecipe.id == number_in(key[len(OWN):]))
        return (bytes(row.picture), "image/png") if row and row.picture is not None else None
    data = _picture_file(key) if key in shipped() else None
    return (data, "image/jpeg") if data else None


def save(recipe: Recipe, png: bytes | None = None) -> str:
    """Keep a recipe; returns its key."""
    row = StoredRecipe.create(name=recipe.name, document=kept_text(recipe.text()), picture=png)
    return f"{OWN}{row.id}"


def keep_picture(key: str, text: str, png: bytes) -> None:
    """Keep a picture with the recipe it was made of, and with no other: numbers of removed recipes
    are given again."""
    StoredRecipe.update(picture=png).where(
        (StoredRecipe.id == number_in(key[len(OWN):]))
        & (StoredRecipe.document == kept_text(text))).execute()


def remove(key: str) -> None:
    """Take one of the artist's own recipes out of the library. Raises NoSuchRecipe."""
    if key in shipped():
        raise NoSuchRecipe(f"'{shipped()[key].name}' ships with the product and stays.")
    number = number_in(key[len(OWN):]) if key.startswith(OWN) else 0
    if not StoredRecipe.delete().where(StoredRecipe.id == number).execute():
        raise NoSuchRecipe(f"There is no recipe '{key[:60]}'; see the Recipes page.")


def suiting(genus: str) -> list[Entry]:
    """Recipes of layers of a genus."""
    return entries("layer", genus)


def layer_replaced(sky: Sky, layer_id: str, found: Entry) -> Sky:
    return with_layer_from(sky, layer_id, found.recipe)
