"""The Skies page: gallery, new, rename, duplicate, delete with undo, import and export."""

from __future__ import annotations

import io
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, abort, make_response, redirect, render_template, request, url_for
from PIL import Image

from dovrek.formats import assets
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data
from dovrek.sky.recipe import starters
from dovrek.store import skies as store
from dovrek.web.shared.answers import attachment, given_file, png_answer

pages = Blueprint("gallery", __name__)

THUMBNAIL = (480, 270)
CLEAR = "clear"
HUNG = 24  # skies of a wall at once: three screens of them, and more come as they are reached
WORDS_LIMIT = 80


def thumbnail(png: bytes) -> bytes:
    """A gallery picture of a proof."""
    image = Image.open(io.BytesIO(png))
    image.thumbnail(THUMBNAIL, Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    return buffer.getvalue()


@pages.get("/")
def front() -> Any:
    """The wall of skies, last changed first; what was changed before a moment when it is asked
    for, of those alone whose names hold some words."""
    words, before = request.args.get("words", "")[:WORDS_LIMIT], _moment("before")
    rows = store.gallery(words, before, HUNG + 1)
    rows, more = rows[:HUNG], len(rows) > HUNG
    seen = {"skies": rows, "words": words, "before": before,
            "older": rows[-1].changed.isoformat() if more else "",
            "faults": {row.slug: store.fault_of(row) for row in rows}}
    if "HX-Request" in request.headers:
        return render_template("skies_hung.html" if before else "skies_wall.html", **seen)
    return render_template("skies.html", starts=starters(), page="skies",
                           deleted=request.args.get("deleted", ""), **seen)


def _moment(name: str) -> datetime | None:
    """A moment of an address, by UTC; None when it names none."""
    text = request.args.get(name, "")
    try:
        found = datetime.fromisoformat(text) if text else None
        return found.astimezone(UTC).replace(tzinfo=None) if found and found.tzinfo else found
    except (ValueError, OverflowError):
        abort(422, f"{name}: '{text[:40]}' is no moment; write one as 2026-03-20T14:30:00.")


@pages.get("/skies/<slug>/thumbnail.png")
def picture(slug: str) -> Any:
    row = store.stored(slug, pictured=True)
    if row.picture is None:
        abort(404, "There is no picture of this sky yet; it comes by itself.")
    return png_answer(bytes(row.picture))


@pages.post("/skies")
def new() -> Any:
    start = request.form.get("start", CLEAR)
    known = starters()
    if start == CLEAR:
        sky = sky_from_data({"dovrek": 1, "name": "Clear sky"})
    elif start in known:
        found = known[start].sky
        assert found is not None
        sky = found
    else:
        abort(422, f"start: '{start[:40]}' is not known; use one of: {CLEAR}, {', '.join(known)}")
    row = store.add_sky(sky)
    return redirect(url_for("composer.page", slug=row.slug))


@pages.post("/skies/import")
def bring_in() -> Any:
    file = given_file("file", "choose a sky exported as JSON, or with its pictures as a zip")
    try:
        sky = assets.sky_of_file(file.stream.read(assets.ARCHIVE_MOST + 1))
    except assets.AssetError as error:
        abort(422, f"{(file.filename or 'The archive')[:80]}: {error}.")
    row = store.add_sky(sky, "Imported")
    return redirect(url_for("composer.page", slug=row.slug))


@pages.get("/skies/<slug>/export.json")
def export(slug: str) -> Any:
    return attachment(store.raw_text(slug), f"{slug}.json")


@pages.get("/skies/<slug>/export.zip")
def export_whole(slug: str) -> Any:
    """The sky with its pictures as files of their own."""
    answer = make_response(assets.packed(store.load(slug)[0]))
    answer.headers["Content-Type"] = "application/zip"
    answer.headers["Content-Disposition"] = f'attachment; filename="{slug}.zip"'
    return answer


@pages.post("/skies/<slug>/rename")
def rename(slug: str) -> Any:
    name = request.form.get("name", "")
    _, revision = store.load(slug)

    def alter(sky: Sky) -> Sky:
        return with_values(sky, {"name": name})

    store.change(slug, revision, "Rename", alter)
    return redirect(url_for("gallery.front"))


@pages.post("/skies/<slug>/back")
def step_back(slug: str) -> Any:
    """Undo from the gallery: a way out of a state that cannot be read."""
    if store.undo(slug) is None:
        abort(422, "There is no step before this one; export it raw, mend it and import it.")
    return redirect(url_for("gallery.front"))


@pages.post("/skies/<slug>/duplicate")
def copy(slug: str) -> Any:
    store.duplicate(slug)
    return redirect(url_for("gallery.front"))


@pages.post("/skies/<slug>/delete")
def remove(slug: str) -> Any:
    store.delete(slug)
    return redirect(url_for("gallery.front", deleted=slug))


@pages.post("/skies/<slug>/restore")
def bring_back(slug: str) -> Any:
    store.restore(slug)
    return redirect(url_for("gallery.front"))
