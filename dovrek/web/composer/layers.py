"""Layers in hand: add, duplicate, remove, map, freeze, deal anew, copy values."""

from __future__ import annotations

import json
from typing import Any

from flask import Blueprint, abort, jsonify

from dovrek.formats import behind, height_maps, world_maps
from dovrek.formats.cover_maps import BYTES_MOST, MapError, embedded
from dovrek.sky.changes import (
    with_layer_added,
    with_layer_dealt,
    with_layer_duplicated,
    with_layer_frozen,
    with_layer_removed,
    with_values,
    with_values_copied,
)
from dovrek.sky.document import Camera
from dovrek.sky.parameter import parameters_of
from dovrek.store import skies as store
from dovrek.web.shared.answers import (
    answer,
    base_of_form,
    body_of,
    changed,
    given_file,
    with_new_layer,
)

pages = Blueprint("layers", __name__, url_prefix="/skies/<slug>")

CAMERA_BYTES = 2 * 2**20


@pages.post("/layers")
def add_layer(slug: str) -> Any:
    body = body_of()
    return with_new_layer(slug, f"Add {body.get('genus')}", lambda sky: with_layer_added(
        sky, str(body.get("genus", ""))[:40], body.get("base_m")), body)


@pages.post("/layers/<layer_id>/map")
def upload_map(slug: str, layer_id: str) -> Any:
    """Take a picture in as the layer's cover map (form: `base`, `picture`)."""
    given, base = given_file("picture", "choose a grey PNG or TIFF"), base_of_form()
    try:
        asset = embedded(given.read(BYTES_MOST + 1))
    except MapError as error:
        abort(422, f"{(given.filename or 'The picture')[:80]}: {error}.")
    return answer(slug, store.change(slug, base, "Cover map", lambda sky: with_values(
        sky, {f"layers[{layer_id}].map.asset": asset})))


@pages.post("/relief/map")
def upload_heights(slug: str) -> Any:
    """Take a picture in as the land's height map (form: `base`, `picture`)."""
    given, base = given_file("picture", "choose a grey PNG, TIFF or OpenEXR"), base_of_form()
    name = (given.filename or "The picture")[:80]
    try:
        found = height_maps.embedded(given.read(height_maps.BYTES_MOST + 1))
    except MapError as error:
        abort(422, f"{name}: {error}.")
    note = f"{name}: {'; '.join(found.notes)}." if found.notes else ""
    return answer(slug, store.change(slug, base, "Height map", lambda sky: with_values(
        sky, {"relief.asset": found.asset, "relief.form": "map"})), note=note)


@pages.post("/relief/picture")
def upload_colours(slug: str) -> Any:
    """Take a picture in as the land's colours from above (form: `base`, `picture`)."""
    given, base = given_file("picture", "choose a picture of the land from above"), base_of_form()
    name = (given.filename or "The picture")[:80]
    try:
        found = behind.colours_of(given.read(behind.BYTES_MOST + 1))
    except behind.PhotographError as error:
        abort(422, f"{name}: {error}.")
    return answer(slug, store.change(slug, base, "Land's colours", lambda sky: with_values(
        sky, {"relief.picture": found})))


@pages.post("/ground/map")
def upload_world(slug: str) -> Any:
    """Take a picture in as the map of the world (form: `base`, `picture`)."""
    given, base = given_file("picture", "choose a grey PNG or TIFF of the world"), base_of_form()
    try:
        asset = world_maps.embedded(given.read(BYTES_MOST + 1))
    except MapError as error:
        abort(422, f"{(given.filename or 'The picture')[:80]}: {error}.")
    return answer(slug, store.change(slug, base, "World map", lambda sky: with_values(
        sky, {"ground.map": asset, "ground.kind": "map"})))


@pages.post("/layers/<layer_id>/duplicate")
def duplicate_layer(slug: str, layer_id: str) -> Any:
    return with_new_layer(slug, "Duplicate layer",
                          lambda sky: with_layer_duplicated(sky, layer_id), body_of())


@pages.post("/layers/<layer_id>/remove")
def remove_layer(slug: str, layer_id: str) -> Any:
    return changed(slug, "Remove layer", lambda sky: with_layer_removed(sky, layer_id),
                   body_of(), selected="sun")


@pages.post("/layers/<layer_id>/freeze")
def freeze(slug: str, layer_id: str) -> Any:
    """Hold a layer's composition, or let it go (`frozen`)."""
    body = body_of()
    held = bool(body.get("frozen"))
    return changed(slug, "Freeze" if held else "Let go",
                   lambda sky: with_layer_frozen(sky, layer_id, held), body)


@pages.post("/layers/<layer_id>/deal")
def deal(slug: str, layer_id: str) -> Any:
    """Deal a layer anew: by the next seed, or by an earlier one (`seed`)."""
    body, seed = body_of(), None
    if isinstance(body.get("seed"), int):
        seed = body["seed"]
    return changed(slug, "Deal anew", lambda sky: with_layer_dealt(sky, layer_id, seed), body)


@pages.get("/layers/<layer_id>/seeds")
def seeds(slug: str, layer_id: str) -> Any:
    """Seeds the layer was dealt by so far, newest first."""
    return jsonify({"seeds": store.seeds_of(slug, layer_id)})


@pages.post("/layers/<layer_id>/copy")
def copy_values(slug: str, layer_id: str) -> Any:
    """Copy groups of values (`parts`) from a layer to another (`to`)."""
    body = body_of()
    parts = body.get("parts")
    if not isinstance(parts, list) or not all(isinstance(p, str) for p in parts):
        abort(422, "parts: choose what is copied.")
    return changed(slug, "Copy values", lambda sky: with_values_copied(
        sky, layer_id, str(body.get("to", ""))[:40], parts), body)


@pages.post("/camera")
def bring_camera(slug: str) -> Any:
    """Take the camera from a JSON file: a sidecar of ours, a sky, or a camera group alone
    (form: `base`, `file`)."""
    file, base = given_file("file", "choose a camera file (JSON)"), base_of_form()
    try:
        given = json.loads(file.read(CAMERA_BYTES))
    except ValueError:
        abort(422, f"{(file.filename or 'The file')[:80]}: is not JSON; choose a print's sidecar "
                   "or a camera file.")
    return answer(slug, store.change(slug, base, "Camera from a file", lambda sky: with_values(
        sky, {f"camera.{k}": v for k, v in camera_values(given).items()})))


def camera_values(given: Any) -> dict[str, Any]:
    """The camera's values in a sidecar, a sky or a camera group. Refuses a file without any."""
    for key in ("sky", "camera"):
        if isinstance(given, dict) and isinstance(given.get(key), dict):
            given = given[key]
    known = {p.path for p in parameters_of(Camera)}
    found = {k: v for k, v in given.items() if k in known} if isinstance(given, dict) else {}
    if not found:
        abort(422, f"camera: the file has none of {', '.join(sorted(known))}; choose a print's "
                   "sidecar or a camera file.")
    return found
