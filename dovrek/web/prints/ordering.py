"""The order dialog of a sky: what it asks, what the print will take and give, habits."""

from __future__ import annotations

import re
from dataclasses import fields
from datetime import datetime
from typing import Any

from flask import Blueprint, abort, current_app, redirect, render_template, request, url_for

from dovrek.core.air.sun_place import sun_place
from dovrek.formats.kinds import holding, printed
from dovrek.prints.foretold import Foretold, check_room, learned
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.seen import layers_of, placed_by_hand, unwashed
from dovrek.store import print_jobs as jobs
from dovrek.store import skies as store
from dovrek.store import versions
from dovrek.store.orders import (
    ASKED,
    NEEDS,
    PICTURES,
    USUAL_WIDTH,
    Order,
    OrderError,
    order_from,
)
from dovrek.web.prints.framing import framing_of
from dovrek.web.prints.reckoning import Reckoner
from dovrek.web.shared.answers import size_text

pages = Blueprint("ordering", __name__, url_prefix="/skies/<slug>/prints")

TOGETHER_MOST = 48  # prints of one order
HOUR = re.compile(r"([01]?\d|2[0-3])[:.]([0-5]\d)")
PRESENT = "present"


def reckoner() -> Reckoner:
    found: Reckoner = current_app.extensions["reckoner"]
    return found


def _layers(sky: Sky) -> dict[str, str]:
    """What a volume may be of: layers with cloud, what is placed by hand in them, the fog."""
    return {x.id: (x.name or x.genus.capitalize()) + (", placed by hand" if placed_by_hand(x)
                                                      else "") for x in layers_of(unwashed(sky))}


def _choices(sky: Sky) -> dict[str, dict[str, str]]:
    """What fields offer that are not the same for every sky."""
    def depth(bits: str) -> str:
        return {"float": "float", "half": "half float"}.get(bits, f"{bits} bit")

    return {"format": {name: f"{form.title}, {depth(bits)}"
                       for name, (form, bits) in printed().items()},
            "layer": {"": "all that are shown"} | _layers(sky)}


def _order_of_form(sky: Sky) -> Order:
    try:
        return order_from(request.values.to_dict(), holding(), tuple(_layers(sky)))
    except OrderError as error:
        abort(422, str(error))


def _begun(sky: Sky) -> Order:
    """The order that the dialog shows first: that of an earlier print or of a habit, or the usual
    one."""
    habit, number = request.args.get("habit", ""), request.args.get("from", 0, type=int)
    found = dict(jobs.habits()).get(habit) if habit else None
    if number:
        try:
            found = jobs.order_of(jobs.job(number))
        except (jobs.NoSuchPrint, OrderError):
            found = None
    if found is not None:
        return found
    return Order(height=round(USUAL_WIDTH["backplate"] / sky.camera.aspect))


@pages.get("/new")
def form(slug: str) -> Any:
    """The dialog's form."""
    sky, _ = store.load(slug)
    order, choices = _begun(sky), _choices(sky)
    rows = [(part.name, ASKED[part.name],
             choices.get(part.name, ASKED[part.name].words), getattr(order, part.name))
            for part in fields(Order) if part.name != "kind"]
    return render_template(
        "order.html", slug=slug, sky=sky, order=order, rows=rows, kinds=ASKED["kind"].words,
        kept=versions.versions(slug), habits=[name for name, _ in jobs.habits()],
        needing={need: " ".join(name for name, has in holding().items() if has[k])
                 for k, need in enumerate(NEEDS)},
        habit=request.args.get("habit", ""), pictures=" ".join(PICTURES),
        hours=_local(sky), usual=USUAL_WIDTH, aspect=sky.camera.aspect)


def _local(sky: Sky) -> str:
    return f"{sky.local_moment():%H:%M}"


@pages.get("/forecast")
def forecast(slug: str) -> Any:
    """What the order would give and take; asks again while it is reckoned."""
    sky, revision = store.load(slug)
    try:
        order = order_from(request.args.to_dict(), holding(), tuple(_layers(sky)))
        check_room(order, sky, current_app.config["SETTINGS"].prints)
        found = reckoner().ask((slug, revision, order), sky)
        count = len(_states(slug, sky, order))
    except OrderError as error:
        return render_template("forecast.html", refused=str(error))
    if isinstance(found, OrderError):
        return render_template("forecast.html", refused=str(found))
    lately = jobs.lately_foretold(20)
    return render_template("forecast.html", slug=slug, order=order, sky=sky, count=count,
                           found=_said(learned(found, lately, order.kind)) if found else None,
                           learned=len(lately), framing=framing_of(sky, order, sun_place(sky)),
                           pictured=store.stored(slug).picture_of is not None)


def _said(found: Foretold) -> dict[str, Any]:
    """A forecast in words."""
    return {"seconds": time_text(found.seconds),
            "range": f"{time_text(found.low_s)} to {time_text(found.high_s)}",
            "memory": size_text(int(found.memory_bytes)), "file": size_text(int(found.file_bytes)),
            "more": [(said, time_text(s), size_text(int(size))) for said, s, size in found.more]}


def time_text(seconds: float) -> str:
    """Seconds in words: 8 s, 3 min, 2.5 h."""
    if seconds < 90.0:
        return f"{max(seconds, 1.0):.0f} s"
    return f"{seconds / 60.0:.0f} min" if seconds < 5400.0 else f"{seconds / 3600.0:.1f} h"


def _states(slug: str, sky: Sky, order: Order) -> list[tuple[str, Sky]]:
    """The states of a sky that are to be printed, with their titles: versions, and of each all
    hours asked for. Raises OrderError."""
    keys = request.values.getlist("version") or [PRESENT]
    text = request.values.get("hours", "").strip()
    hours = [part for part in re.split(r"[,;\s]+", text) if part]
    if len(keys) * max(len(hours), 1) > TOGETHER_MOST:
        raise OrderError(f"hours, version: {len(keys)} × {max(len(hours), 1)} prints are more than "
                         f"{TOGETHER_MOST}; order fewer together")
    found = []
    for key in keys:
        name, state = (sky.name, sky) if key == PRESENT else versions.state(slug, key)
        title = sky.name if key == PRESENT else f"{sky.name}, {name}"
        if order.layer and order.layer not in _layers(state):
            raise OrderError(f"version: '{name}' has no layer '{order.layer}'; leave it out")
        if not hours:
            found.append((title, state))
        for hour in hours:
            moment = _at(state, hour)
            found.append((f"{title}, {moment:%H:%M}", with_values(state, {
                "moment": moment.isoformat(timespec="minutes"), "sun.mode": "clock"})))
    return found


def _at(sky: Sky, hour: str) -> datetime:
    """That hour of a sky's date. Raises OrderError."""
    match = HOUR.fullmatch(hour)
    if match is None:
        raise OrderError(f"hours: '{hour[:12]}' is no hour of the day; give hours like "
                         "06:30, 18:00")
    return sky.local_moment().replace(hour=int(match[1]), minute=int(match[2]), second=0,
                                      microsecond=0, tzinfo=None)


@pages.post("")
def order(slug: str) -> Any:
    sky, revision = store.load(slug)
    wanted = _order_of_form(sky)
    try:
        states = _states(slug, sky, wanted)
        check_room(wanted, sky, current_app.config["SETTINGS"].prints)
        name = request.form.get("habit_name", "").strip()
        if name:
            jobs.keep_habit(name, wanted)
    except OrderError as error:
        abort(422, str(error))
    jobs.place_all(states, slug, wanted, reckoner().known((slug, revision, wanted)))
    return redirect(url_for("orders.front"))


@pages.post("/habits/forget")
def forget_habit(slug: str) -> Any:
    """Forget a habit, and show the form without it."""
    store.load(slug)
    jobs.forget_habit(request.form.get("habit", "")[:jobs.HABIT_LETTERS])
    return redirect(url_for("ordering.form", slug=slug))


