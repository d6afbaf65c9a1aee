"""The Recipes page: search and filter, insert, save, import, export."""

from __future__ import annotations

from typing import Any

from flask import (
    Blueprint,
    Response,
    abort,
    jsonify,
    redirect,
    render_template,
    request,
    url_for,
)

from dovrek.sky.document import Sky
from dovrek.sky.layer import GENUS_DEFAULTS
from dovrek.sky.reading import sky_from_data
from dovrek.sky.recipe import recipe_from_text, recipe_of_layer, recipe_of_sky, with_recipe
from dovrek.store import recipes as library
from dovrek.store import skies as store
from dovrek.store.tables import database
from dovrek.web.live.boards import Board, Frame
from dovrek.web.shared.answers import (
    attachment,
    body_of,
    given_file,
    json_of,
    live,
    units,
    with_new_layer,
)

pages = Blueprint("library", __name__)

PICTURE_WIDTH = 320
WORDS_LIMIT = 80
# How a layer's recipe is pictured: under a high sun from the side, over a plain ground.
STAGE = {"dovrek": 1, "sun": {"mode": "free", "elevation_deg": 35, "azimuth_deg": 95},
         "camera": {"heading_deg": 0, "pitch_deg": 16, "lens_mm": 24}}


def _asked() -> dict[str, Any]:
    kind, genus = request.args.get("kind", ""), request.args.get("genus", "")
    words = request.args.get("words", "")[:WORDS_LIMIT]
    kind = kind if kind in ("layer", "sky") else ""
    genus = genus if genus in GENUS_DEFAULTS else ""
    return {"kind": kind, "genus": genus, "words": words,
            "entries": library.entries(kind, genus, words),
            "unreadable": library.unreadable(), "genera": list(GENUS_DEFAULTS)}


@pages.get("/recipes")
def front() -> Any:
    asked = _asked()
    if "HX-Request" in request.headers:
        return render_template("recipe_wall.html", **asked)
    return render_template("recipes.html", page="recipes", **asked)


@pages.get("/recipes/<key>/places")
def places(key: str) -> Any:
    """Where a recipe can go, as a list to choose from: asked for when its card is opened, for
    skies may be hundreds and recipes dozens."""
    return render_template("recipe_places.html", skies=store.names(),
                           whole=library.entry(key).recipe.kind == "sky")


@pages.get("/recipes/<key>.json")
def export(key: str) -> Any:
    return attachment(library.raw_text(key), f"{key}.recipe.json")


@pages.get("/recipes/<key>/picture")
def picture(key: str) -> Any:
    found = library.picture(key)
    if found is None:
        abort(404, "There is no picture of this recipe yet.")
    response = Response(found[0], mimetype=found[1])
    response.headers["Cache-Control"] = "max-age=3600"
    return response


def paint(key: str) -> None:
    """Have a recipe's picture made while nobody waits."""
    recipe = library.entry(key).recipe
    if recipe.sky is not None:
        sky = recipe.sky
    else:
        sky, _ = with_recipe(sky_from_data(STAGE), recipe)
    frame, text = Frame(recipe.name, sky, lambda s: s), recipe.text()

    def keep(png: bytes) -> None:  # on the render thread
        with database.connection_context():
            library.keep_picture(key, text, png)

    board = Board("", recipe.name, [frame], PICTURE_WIDTH, "draft", patient=True, kept=keep)
    live().order(board)


@pages.post("/recipes/import")
def bring_in() -> Any:
    file = given_file("file", "choose a recipe exported as JSON")
    key = library.save(recipe_from_text(file.stream.read()))
    paint(key)
    return redirect(url_for("library.front"))


@pages.post("/recipes/<key>/remove")
def remove(key: str) -> Any:
    library.remove(key)
    return redirect(url_for("library.front"))


@pages.post("/recipes/<key>/insert")
def insert(key: str) -> Any:
    """Put a recipe into a stored sky (form: `sky`, `base_m` or nothing), then open that sky."""
    slug = request.form.get("sky", "")
    entry = library.entry(key)
    if slug == "":
        if entry.recipe.sky is None:
            abort(422, "sky: choose the sky this layer goes into.")
        row = store.add_sky(entry.recipe.sky, f"From {entry.name}")
        return redirect(url_for("composer.page", slug=row.slug))
    base = request.form.get("base_m", "").strip()
    try:
        altitude = float(base.replace(",", ".")) if base else None
    except ValueError:
        abort(422, f"base: '{base[:20]}' is not a number of metres; leave it empty for the "
                   "recipe's own.")
    new: list[str] = []
    _, revision = store.load(slug)

    def alter(sky: Sky) -> Sky:
        led, layer_id = with_recipe(sky, entry.recipe, altitude)
        new.append(layer_id)
        return led

    store.change(slug, revision, f"Insert {entry.name}", alter)
    return redirect(url_for("composer.page", slug=slug, selected=f"layer:{new[0]}"))


@pages.get("/skies/<slug>/recipes")
def rail(slug: str) -> Any:
    """Layer recipes beside the section, highest first as it stands."""
    entries = sorted((e for e in library.entries("layer") if e.recipe.layer),
                     key=lambda e: -e.recipe.layer.base_m if e.recipe.layer else 0.0)
    return render_template("rail.html", entries=entries, units=units())


@pages.post("/skies/<slug>/recipes/<key>/insert")
def insert_here(slug: str, key: str) -> Any:
    """Insert from the composer, at an altitude (`base_m`) or the recipe's own."""
    body, entry = body_of(), library.entry(key)
    base = body.get("base_m")
    if base is not None and not isinstance(base, int | float):
        abort(422, "base_m: give metres, or nothing for the recipe's own.")
    return with_new_layer(slug, f"Insert {entry.name}",
                          lambda sky: with_recipe(sky, entry.recipe, base), body)


@pages.post("/skies/<slug>/recipes")
def save(slug: str) -> Any:
    """Save a layer (`layer`) or the whole sky as a recipe with `name` and `notes`."""
    body = json_of("name: give the recipe a name.")
    sky, _ = store.load(slug)
    name, notes = body.get("name", ""), body.get("notes", "")
    layer = str(body.get("layer") or "")
    recipe = recipe_of_layer(sky, layer, name, notes) if layer else recipe_of_sky(sky, name, notes)
    key = library.save(recipe)
    paint(key)
    return jsonify({"key": key, "note": f"Saved as the recipe {recipe.name}."})
