"""The composer: one sky on one screen. Section, picture, day ribbon, schedule."""

from __future__ import annotations

import base64
import math
from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, Response, abort, current_app, jsonify, render_template, request

from dovrek.core.stages import Cancel
from dovrek.core.sun_place import local_day, moon_place, sun_place
from dovrek.formats.cover_maps import BYTES_MOST, MapError, embedded
from dovrek.sky.advisories import advisories
from dovrek.sky.changes import (
    with_layer_added,
    with_layer_duplicated,
    with_layer_removed,
    with_values,
)
from dovrek.sky.document import Sky
from dovrek.sky.layer import GENUS_DEFAULTS, Layer
from dovrek.sky.parameter import parameter_at
from dovrek.store import skies as store
from dovrek.web import section
from dovrek.web.live import Live
from dovrek.web.ribbon import ribbon_of, ribbon_png
from dovrek.web.schedule import FOLDED, THING_NAMES, sheet_of

pages = Blueprint("composer", __name__, url_prefix="/skies/<slug>")

POLL_SECONDS = 12.0
VALUES_LIMIT = 64
NOTE_LIMIT = 120


def live() -> Live:
    found: Live = current_app.extensions["live"]
    return found


def facts_of(sky: Sky) -> dict[str, str]:
    """Short lines under the schedule's titles."""
    sun = sun_place(sky)
    height, bearing = math.degrees(sun.elevation), math.degrees(sun.azimuth) % 360
    field = f"{math.degrees(sky.camera.fov_h_rad):.0f}° × {math.degrees(sky.camera.fov_v_rad):.0f}°"
    return {"sun_short": f"{height:.1f}° · {bearing:.0f}°",
            "sun": f"{height:.1f}° high · bearing {bearing:.0f}°", "air": "the clear atmosphere",
            "moon": moon_fact(sky),
            "site": f"{abs(sky.site.latitude):.1f}° {'N' if sky.site.latitude >= 0 else 'S'} "
                    f"{abs(sky.site.longitude):.1f}° {'E' if sky.site.longitude >= 0 else 'W'}",
            "camera": f"sees {field}", "film": "from scene light to a picture"}


def moon_fact(sky: Sky) -> str:
    """Where the moon stands and how much of it is lit."""
    place, lit, _ = moon_place(sky)
    height = math.degrees(place.elevation)
    stands = f"{height:.0f}° high" if height > 0 else "below the horizon"
    return f"{stands} · {100 * lit:.0f} % lit"


def parts(slug: str, sky: Sky, revision: int, selected: str) -> dict[str, Any]:
    """All that the templates of the composer show."""
    facts = facts_of(sky)
    back, forward = store.steps(slug)
    sun = math.degrees(sun_place(sky).elevation)
    if selected.startswith("layer:") and all(f"layer:{x.id}" != selected for x in sky.layers):
        selected = "sun"
    return {
        "slug": slug, "sky": sky, "revision": revision, "selected": selected, "facts": facts,
        "sheet": sheet_of(sky, selected, facts), "things": THING_NAMES,
        "bands": section.bands(sky), "marks": [(section.y_of(k * 1e3), k) for k in
                                               section.MARKS_KM],
        "etages": section.etage_marks(),
        "geometry": section, "scale": section.scale_table(), "ribbon": ribbon_of(sky),
        "back": back, "forward": forward, "genera": list(GENUS_DEFAULTS), "folded": FOLDED,
        "advisories": advisories(sky, sun), "page": "composer",
        "base_limits": parameter_at(Layer, "base_m"),
        "thickness_limits": parameter_at(Layer, "thickness_m"),
    }


def _selected(sky: Sky) -> str:
    wanted = request.args.get("selected", "")
    if wanted:
        return wanted[:60]
    return f"layer:{sky.layers[0].id}" if sky.layers else "sun"


@pages.get("/")
def page(slug: str) -> Any:
    sky, revision = store.load(slug)
    live().show(slug, sky, revision)
    return render_template("composer.html", **parts(slug, sky, revision, _selected(sky)))


@pages.get("/panels")
def panels(slug: str) -> Any:
    """Section, schedule, title block and ribbon in one answer (out-of-band for all but one)."""
    sky, revision = store.load(slug)
    names = request.args.get("only", "section,schedule,title,ribbon").split(",")
    return render_template("panels.html", names=names,
                           **parts(slug, sky, revision, _selected(sky)))


def _answer(slug: str, written: store.Written, **more: Any) -> Any:
    shown = live().show(slug, written.sky, written.revision)
    if shown is not None:  # one way instead of two to a picture that is ready
        more["picture"] = shown.data() | {"png": base64.b64encode(shown.png).decode()}
    return jsonify({"revision": written.revision, "others": [place_name(written.sky, p)
                                                             for p in written.others], **more})


def place_name(sky: Sky, path: str) -> str:
    """A document path in the words of the schedule."""
    if path.startswith("layers["):
        layer_id, _, rest = path[7:].partition("]")
        layer = next((x for x in sky.layers if x.id == layer_id), None)
        title = (layer.name or layer.genus) if layer else "a layer that is gone"
        known = parameter_at(Layer, rest.lstrip("."))
        return f"{known.label} of {title}" if known else title
    known = parameter_at(Sky, path)
    return f"{known.label} ({known.group})" if known else path


def _body() -> dict[str, Any]:
    body = request.get_json(silent=True)
    if not isinstance(body, dict) or not isinstance(body.get("base"), int):
        abort(422, "base: the change names no revision it stands on; reload the page.")
    return body


@pages.post("/change")
def change(slug: str) -> Any:
    body = _body()
    values = body.get("values")
    if not isinstance(values, dict) or not 0 < len(values) <= VALUES_LIMIT:
        abort(422, f"values: give 1 to {VALUES_LIMIT} values by their paths.")
    note = str(body.get("note", "Change"))[:NOTE_LIMIT]
    written = store.change(slug, body["base"], note, lambda sky: with_values(sky, values),
                           str(body.get("gesture", ""))[:60])
    return _answer(slug, written)


@pages.post("/hour")
def hour(slug: str) -> Any:
    """Move the moment within its date: `share` of the day, 0 … 1 (ties the sun to the clock)."""
    body = _body()
    share = body.get("share")
    if not isinstance(share, int | float) or not 0.0 <= share <= 1.0:
        abort(422, "share: give a number from 0 to 1.")

    def alter(sky: Sky) -> Sky:
        start, end = local_day(sky)
        instant = start + (end - start) * float(share)
        local = instant.astimezone(ZoneInfo(sky.site.timezone))
        if local.date() > start.astimezone(ZoneInfo(sky.site.timezone)).date():
            local -= timedelta(minutes=1)
        moment = local.replace(second=0, microsecond=0, tzinfo=None)
        return with_values(sky, {"moment": moment.isoformat(timespec="minutes"),
                                 "sun.mode": "clock"})

    return _answer(slug, store.change(slug, body["base"], "Hour", alter,
                                      str(body.get("gesture", ""))[:60]))


@pages.post("/undo")
def undo(slug: str) -> Any:
    return _step(slug, store.undo(slug), "There is nothing to undo.")


@pages.post("/redo")
def redo(slug: str) -> Any:
    return _step(slug, store.redo(slug), "There is nothing to redo.")


def _step(slug: str, written: store.Written | None, nothing: str) -> Any:
    if written is None:
        sky, revision = store.load(slug)
        return jsonify({"revision": revision, "others": [], "note": nothing})
    return _answer(slug, written)


@pages.post("/layers")
def add_layer(slug: str) -> Any:
    body = _body()
    new: list[str] = []

    def alter(sky: Sky) -> Sky:
        changed, layer_id = with_layer_added(sky, str(body.get("genus", ""))[:40],
                                             body.get("base_m"))
        new.append(layer_id)
        return changed

    written = store.change(slug, body["base"], f"Add {body.get('genus')}", alter)
    return _answer(slug, written, selected=f"layer:{new[0]}")


@pages.post("/layers/<layer_id>/map")
def upload_map(slug: str, layer_id: str) -> Any:
    """Take a picture in as the layer's cover map (form: `base`, `picture`)."""
    given = request.files.get("picture")
    base = request.form.get("base", type=int)
    if given is None or base is None:
        abort(422, "picture: choose a grey PNG or TIFF.")
    try:
        asset = embedded(given.read(BYTES_MOST + 1))
    except MapError as error:
        abort(422, f"{(given.filename or 'The picture')[:80]}: {error}.")
    return _answer(slug, store.change(slug, base, "Cover map", lambda sky: with_values(
        sky, {f"layers[{layer_id}].map.asset": asset})))


@pages.post("/layers/<layer_id>/duplicate")
def duplicate_layer(slug: str, layer_id: str) -> Any:
    body = _body()
    new: list[str] = []

    def alter(sky: Sky) -> Sky:
        changed, copied = with_layer_duplicated(sky, layer_id)
        new.append(copied)
        return changed

    written = store.change(slug, body["base"], "Duplicate layer", alter)
    return _answer(slug, written, selected=f"layer:{new[0]}")


@pages.post("/layers/<layer_id>/remove")
def remove_layer(slug: str, layer_id: str) -> Any:
    body = _body()
    written = store.change(slug, body["base"], "Remove layer",
                           lambda sky: with_layer_removed(sky, layer_id))
    return _answer(slug, written, selected="sun")


@pages.get("/live")
def watch(slug: str) -> Any:
    """State of the picture once it differs from what the window has (long poll)."""
    serial = request.args.get("serial", 0, type=int)
    progress = request.args.get("progress", -1.0, type=float)
    revision = request.args.get("revision", 0, type=int)
    if not live().knows(slug):  # a window that was open before the server started
        live().show(slug, *store.load(slug))
    return jsonify(live().wait(slug, serial, progress, revision, POLL_SECONDS))


@pages.get("/picture/<int:serial>.png")
def picture(slug: str, serial: int) -> Any:
    shown = live().picture(slug, serial)
    if shown is None:
        abort(404, "This picture has been replaced by a newer one.")
    response = Response(shown.png, mimetype="image/png")
    response.headers["X-Revision"] = str(shown.revision)
    response.headers["Cache-Control"] = "no-store"
    return response


@pages.get("/ribbon.png")
def strip(slug: str) -> Any:
    sky, _ = store.load(slug)
    atmosphere = live().ribbon_atmosphere(sky, Cancel())
    response = Response(ribbon_png(sky, atmosphere), mimetype="image/png")
    response.headers["Cache-Control"] = "no-cache"
    return response
