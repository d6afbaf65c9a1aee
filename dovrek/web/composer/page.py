"""The composer: one sky on one screen. Section, picture, day ribbon, schedule."""

from __future__ import annotations

import math
from dataclasses import replace
from datetime import timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, abort, jsonify, render_template, request

from dovrek.core.air.sun_place import local_day, moon_place, sun_place
from dovrek.core.geometry.views import OFFERED
from dovrek.core.run.workers import Cancel
from dovrek.formats.kinds import printed
from dovrek.sky.advisories import advisories
from dovrek.sky.changes import COPIED, with_values
from dovrek.sky.document import Sky
from dovrek.sky.layer import GENUS_DEFAULTS, Layer
from dovrek.sky.parameter import parameter_at
from dovrek.store import skies as store
from dovrek.store import versions
from dovrek.web.composer import section
from dovrek.web.composer.handling import RAMP_HEX, STOPS
from dovrek.web.composer.overlay import overlay_of
from dovrek.web.composer.ribbon import ribbon_of, ribbon_png
from dovrek.web.composer.schedule import FOLDED, sheet_of
from dovrek.web.shared.answers import answer, body_of, changed, live, look, png_answer, units
from dovrek.web.shared.photographs import reference_cover
from dovrek.web.shared.things import THING_NAMES

pages = Blueprint("composer", __name__, url_prefix="/skies/<slug>")

POLL_SECONDS = 12.0
VALUES_LIMIT = 64
NOTE_LIMIT = 120


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
    seen = live().seen(slug, look(), revision)
    judged = seen.held_ev is not None  # the picture is finished
    if judged and (reference := reference_cover(slug)) is not None:
        seen = replace(seen, reference_cover=reference.oktas, cover=live().cover_at(
            slug, look(), revision, reference.ratio))
    return {
        "slug": slug, "sky": sky, "revision": revision, "selected": selected, "facts": facts,
        "sheet": sheet_of(sky, selected, facts, units()), "things": THING_NAMES,
        "bands": section.bands(sky), "marks": [(section.y_of(k * 1e3), k) for k in
                                               section.MARKS_KM],
        "etages": section.etage_marks(), "look": look(), "overlay": overlay_of(sky, look()),
        "geometry": section, "scale": section.scale_table(), "ribbon": ribbon_of(sky),
        "back": back, "forward": forward, "genera": list(GENUS_DEFAULTS), "folded": FOLDED,
        "advisories": advisories(sky, sun, seen=seen), "lids": seen.lids, "page": "composer",
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
    live().show(slug, sky, revision, look())
    return render_template("composer.html", ramp=list(zip(STOPS, RAMP_HEX, strict=True)),
                           copied=list(COPIED), views=list(OFFERED.values()),
                           printed=printed(),
                           drawing=versions.overlay(slug) is not None,
                           hint_off=request.cookies.get("hint") == "off",
                           **parts(slug, sky, revision, _selected(sky)))


@pages.get("/panels")
def panels(slug: str) -> Any:
    """Section, schedule, title block and ribbon in one answer (out-of-band for all but one)."""
    sky, revision = store.load(slug)
    names = request.args.get("only", "section,schedule,title,ribbon,overlay,advisories").split(",")
    return render_template("panels.html", names=names,
                           **parts(slug, sky, revision, _selected(sky)))


@pages.post("/change")
def change(slug: str) -> Any:
    body = body_of()
    values = body.get("values")
    if not isinstance(values, dict) or not 0 < len(values) <= VALUES_LIMIT:
        abort(422, f"values: give 1 to {VALUES_LIMIT} values by their paths.")
    note = str(body.get("note", "Change"))[:NOTE_LIMIT]
    return changed(slug, note, lambda sky: with_values(sky, values), body)


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
        return jsonify({"revision": revision, "others": [], "note": nothing})
    return answer(slug, written)


@pages.get("/live")
def watch(slug: str) -> Any:
    """State of the picture once it differs from what the window has (long poll)."""
    serial = request.args.get("serial", 0, type=int)
    progress = request.args.get("progress", -1.0, type=float)
    revision = request.args.get("revision", 0, type=int)
    if not live().knows(slug, look()):  # a window open before the server started, or a new view
        live().show(slug, *store.load(slug), look())
    return jsonify(live().wait(slug, serial, progress, revision, POLL_SECONDS, look()))


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
    return png_answer(ribbon_png(sky, atmosphere))
