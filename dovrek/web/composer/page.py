"""The composer: one sky on one screen. Section, picture, day ribbon, schedule."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, abort, jsonify, render_template, request

from dovrek.core.air.sun_place import local_day
from dovrek.core.geometry.views import OFFERED
from dovrek.core.run.workers import Cancel
from dovrek.sky.changes import COPIED, with_values
from dovrek.sky.document import Sky
from dovrek.sky.trials import declaration_of
from dovrek.sky.units import value_in
from dovrek.store import skies as store
from dovrek.store import versions
from dovrek.web.composer.clip import keyed_change
from dovrek.web.composer.day_clouds import clouds_of, key_of_day
from dovrek.web.composer.handling import RAMP_HEX, STOPS
from dovrek.web.composer.panels import PANELS, Shown, parts, stale
from dovrek.web.composer.ribbon import ribbon_png
from dovrek.web.live.looks import Known
from dovrek.web.shared.answers import answer, body_of, changed, live, look, png_answer

pages = Blueprint("composer", __name__, url_prefix="/skies/<slug>")

POLL_SECONDS = 12.0
VALUES_LIMIT = 64
NOTE_LIMIT = 120


def _selected(sky: Sky) -> str:
    wanted = request.args.get("selected", "")
    if wanted:
        return wanted[:100]
    return f"layer:{sky.layers[0].id}" if sky.layers else "sun"


@pages.get("/")
def page(slug: str) -> Any:
    sky, revision = store.load(slug)
    live().show(slug, sky, revision, look())
    return render_template("composer.html", ramp=list(zip(STOPS, RAMP_HEX, strict=True)),
                           copied=list(COPIED), views=list(OFFERED.values()),
                           drawing=versions.overlay(slug) is not None,
                           hint_off=request.cookies.get("hint") == "off",
                           **parts(Shown(slug, sky, revision, _selected(sky), look())))


@pages.get("/panels")
def panels(slug: str) -> Any:
    """Panels that show any of what is `touched`, out-of-band in one answer; all when not said."""
    sky, revision = store.load(slug)
    touched = request.args.get("touched")
    names = list(PANELS) if touched is None else stale(touched.split(","))
    return render_template("panels.html", names=names, **parts(
        Shown(slug, sky, revision, _selected(sky), look()), names))


def in_own_unit(path: str, value: Any) -> Any:
    """A value typed with a unit (20 kn, 4000 ft) in the parameter's own; others as they are."""
    known = declaration_of(path) if isinstance(value, str) else None
    if known is None or known.kind not in ("number", "integer"):
        return value
    found = value_in(value, known.unit)
    return value if found is None else found


@pages.post("/change")
def change(slug: str) -> Any:
    body = body_of()
    values = body.get("values")
    if not isinstance(values, dict) or not 0 < len(values) <= VALUES_LIMIT:
        abort(422, f"values: give 1 to {VALUES_LIMIT} values by their paths.")
    values = {path: in_own_unit(path, value) for path, value in values.items()}
    note, clip_s = str(body.get("note", "Change"))[:NOTE_LIMIT], look().clip_s
    said: dict[str, str] = {}

    def alter(sky: Sky) -> Sky:
        if clip_s is None or not any(path in sky.motion.keys for path in values):
            return with_values(sky, values)
        said["note"] = f"This control is keyed: its value is fixed at {clip_s:.2f} s of the clip."
        plain, keyed = keyed_change(sky, values, clip_s)
        return with_values(keyed, plain)

    answered = changed(slug, note, alter, body)
    return jsonify(answered.json | said) if said else answered


@pages.post("/hour")
def hour(slug: str) -> Any:
    """Move the moment within its date: `share` of the day, 0 … 1 (ties the sun to the clock)."""
    body = body_of()
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

    return changed(slug, "Hour", alter, body)


@pages.post("/undo")
def undo(slug: str) -> Any:
    return _step(slug, store.undo(slug), "There is nothing to undo.")


@pages.post("/redo")
def redo(slug: str) -> Any:
    return _step(slug, store.redo(slug), "There is nothing to redo.")


def _step(slug: str, written: store.Written | None, nothing: str) -> Any:
    if written is None:
        sky, revision = store.load(slug)
        return jsonify({"revision": revision, "touched": [], "others": [], "note": nothing})
    return answer(slug, written)


@pages.get("/live")
def watch(slug: str) -> Any:
    """State of the picture once it differs from what the window has (long poll)."""
    given = request.args
    known = Known(given.get("serial", 0, type=int), given.get("progress", -1.0, type=float),
                  given.get("revision", type=int), given.get("turn", type=int))
    if not live().knows(slug, look()):  # a window open before the server started, or a new view
        live().show(slug, *store.load(slug), look())
    return jsonify(live().wait(slug, known, POLL_SECONDS, look()))


@pages.get("/picture/<int:serial>.png")
def picture(slug: str, serial: int) -> Any:
    shown = live().picture(slug, serial, look())
    if shown is None:
        abort(404, "This picture has been replaced by a newer one.")
    response = png_answer(shown.image, kept=False)
    response.mimetype = shown.mimetype
    response.headers["X-Revision"] = str(shown.revision)
    return response


@pages.get("/ribbon.png")
def strip(slug: str) -> Any:
    sky, _ = store.load(slug)
    atmosphere = live().ribbon_atmosphere(sky, Cancel())
    clouds = clouds_of(slug, sky, atmosphere, live())
    return png_answer(ribbon_png(sky, atmosphere, clouds.told if clouds else ()))


@pages.get("/ribbon.json")
def strip_clouds(slug: str) -> Any:
    """How many hours of the day have been looked at with the sky's own clouds, and how many will
    be; asking has them looked at."""
    sky, _ = store.load(slug)
    clouds = clouds_of(slug, sky, live().ribbon_atmosphere(sky, Cancel()), live())
    found, wanted = (len(clouds.found), clouds.wanted) if clouds else (0, 0)
    return {"day": f"{key_of_day(sky)}-{found}", "found": found, "wanted": wanted}
