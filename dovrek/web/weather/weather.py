"""The Weather page: a report pasted, what each of its groups set, and the sky of it."""

from __future__ import annotations

import re
from importlib.resources import files
from typing import Any

from flask import Blueprint, abort, current_app, redirect, render_template, request, url_for

from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.store import skies as store
from dovrek.weather.epw import BYTES_LIMIT as FILE_LIMIT
from dovrek.weather.epw import hour_at, read_epw
from dovrek.weather.report import BYTES_LIMIT, WeatherError, read_report
from dovrek.weather.sky_of import sky_of_record, sky_of_report
from dovrek.weather.station import PLACE, reports_of_day, sky_of_day
from dovrek.web.shared.answers import attachment, given_file
from dovrek.web.weather.comparing import Comparer

pages = Blueprint("weather", __name__, url_prefix="/weather")

SEED_MOST = 9999


@pages.get("/")
def front() -> Any:
    return _page("", None)


@pages.post("/")
def read() -> Any:
    """Explain a report, or make its sky (`keep`)."""
    text = request.form.get("report", "")[: BYTES_LIMIT + 1]
    hour = request.form.get("hour", type=int)
    day = request.form.get("day", type=int)
    try:
        report = read_report(text, hour, day)
        sky, told = sky_of_report(report, _base())
    except (WeatherError, SkyError) as error:
        return _page(text, None, fault=str(error), hour=hour, day=day), 422
    if "keep" in request.form:
        row = store.add_sky(sky, f"From a report of {report.station}")
        return redirect(url_for("composer.page", slug=row.slug))
    return _page(text, report, told=told, hour=hour, day=day)


@pages.post("/epw")
def hour_of_file() -> Any:
    """Explain an hour of an EPW file, or make its sky (`keep`)."""
    at = request.form.get("at", "").strip()
    said = re.fullmatch(r"(\d{1,2})-(\d{1,2})T(\d{1,2})", at, re.ASCII)
    file = given_file("file", "choose an EPW file")
    try:
        if said is None:
            raise WeatherError(f"hour: '{at[:20]}' is none; write month, day and hour like "
                               "06-21T14")
        station = read_epw(file.stream.read(FILE_LIMIT + 1).decode("latin-1"))
        record = hour_at(station, *(int(part) for part in said.groups()))
        sky, told = sky_of_record(station, record, _base())
    except (WeatherError, SkyError) as error:
        return _page("", None, fault=str(error), at=at), 422
    if "keep" in request.form:
        row = store.add_sky(sky, f"From a file of {station.name}")
        return redirect(url_for("composer.page", slug=row.slug))
    comparer = _comparer()
    return _page("", None, told=told, at=at, record=record, name=file.filename,
                 light=comparer.keep(sky, record))


@pages.get("/light/<key>")
def light(key: str) -> Any:
    """A file's light beside that of the sky which was made of it; asks again until it is known."""
    rows = _comparer().rows(key)
    if isinstance(rows, str):
        return render_template("light.html", fault=rows)
    return render_template("light.html", key=key, rows=rows)


def _comparer() -> Comparer:
    found: Comparer = current_app.extensions["comparer"]
    return found


@pages.get("/saltings.epw")
def sample() -> Any:
    """A small invented file to try."""
    text = files("dovrek.weather").joinpath("saltings.epw").read_text()
    return attachment(text, "saltings.epw")


@pages.post("/day")
def whole_day() -> Any:
    """A sky whose motion runs through the simulated station's day."""
    row = store.add_sky(sky_of_day(reports_of_day(_seed()), _base()), "A day of reports")
    return redirect(url_for("composer.page", slug=row.slug))


def _base() -> Sky:
    """The sky whose place and camera are taken: the one chosen, or a plain one."""
    slug = request.form.get("place", "")
    return store.load(slug)[0] if slug else Sky()


def _seed() -> int:
    seed = request.values.get("seed", default=1, type=int)
    if not 0 <= seed <= SEED_MOST:
        abort(422, f"seed: give a number from 0 to {SEED_MOST}.")
    return seed


def _page(text: str, report: Any, **more: Any) -> str:
    seed = _seed()
    return render_template(
        "weather.html", page="skies", text=text, report=report, seed=seed, station=PLACE,
        reports=reports_of_day(seed), skies=store.names(),
        place=request.form.get("place", ""), limit=BYTES_LIMIT, **more)
