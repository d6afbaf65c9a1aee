"""The Skies page: gallery, new, rename, duplicate, delete with undo, import and export."""

from __future__ import annotations

import io
from typing import Any

from flask import Blueprint, Response, abort, redirect, render_template, request, url_for
from PIL import Image

from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_from_text, sky_to_text
from dovrek.store import skies as store

pages = Blueprint("gallery", __name__)

THUMBNAIL = (480, 270)
# What a new sky begins with: a clear sky, or one layer over it.
STARTS = {
    "clear": ("Clear sky", []),
    "cumulus": ("Fair-weather heaps", [{"genus": "cumulus", "cover_oktas": 2.5}]),
    "stratus": ("Grey sheet", [{"genus": "stratus"}]),
    "altocumulus": ("Field of small cells", [{"genus": "altocumulus"}]),
    "cirrus": ("High streaks", [{"genus": "cirrus"}]),
}


def thumbnail(png: bytes) -> bytes:
    """A gallery picture of a proof."""
    image = Image.open(io.BytesIO(png))
    image.thumbnail(THUMBNAIL, Image.Resampling.LANCZOS)
    buffer = io.BytesIO()
    image.save(buffer, "PNG")
    return buffer.getvalue()


@pages.get("/")
def front() -> Any:
    deleted = request.args.get("deleted", "")
    return render_template("skies.html", skies=store.gallery(), starts=STARTS, deleted=deleted,
                           page="skies")


@pages.get("/skies/<slug>/thumbnail.png")
def picture(slug: str) -> Any:
    row = store.stored(slug)
    if row.picture is None:
        abort(404, "There is no picture of this sky yet; open it once.")
    response = Response(bytes(row.picture), mimetype="image/png")
    response.headers["Cache-Control"] = "no-cache"
    return response


@pages.post("/skies")
def new() -> Any:
    start = request.form.get("start", "clear")
    if start not in STARTS:
        abort(422, f"start: '{start[:40]}' is not known; use one of: {', '.join(STARTS)}")
    name, layers = STARTS[start]
    sky = sky_from_data({"dovrek": 1, "name": name, "layers": layers})
    row = store.add_sky(sky)
    return redirect(url_for("composer.page", slug=row.slug))


@pages.post("/skies/import")
def bring_in() -> Any:
    file = request.files.get("file")
    if file is None or not file.filename:
        abort(422, "file: nothing was chosen; choose a sky exported as JSON.")
    row = store.add_sky(sky_from_text(file.stream.read()), "Imported")
    return redirect(url_for("composer.page", slug=row.slug))


@pages.get("/skies/<slug>/export.json")
def export(slug: str) -> Any:
    sky, _ = store.load(slug)
    response = Response(sky_to_text(sky), mimetype="application/json")
    response.headers["Content-Disposition"] = f'attachment; filename="{slug}.json"'
    return response


@pages.post("/skies/<slug>/rename")
def rename(slug: str) -> Any:
    name = request.form.get("name", "")
    _, revision = store.load(slug)

    def alter(sky: Sky) -> Sky:
        return with_values(sky, {"name": name})

    store.change(slug, revision, "Rename", alter)
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
