"""Versions, references and Compare: choose between states of a sky, match a photograph."""

from __future__ import annotations

import base64
import math
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np
from flask import Blueprint, abort, jsonify, redirect, render_template, request, url_for
from PIL import Image

from dovrek.core.photo.foreground import SKYLINE_PARTS, standing
from dovrek.core.photo.horizon_line import horizon_line
from dovrek.core.photo.likeness import (
    RATIO,
    RATIO_LIMITS,
    Mask,
    Pixels,
    difference_of,
    likeness_of,
    mask_overlay,
)
from dovrek.formats.references import BYTES_MOST, PhotographError, read_drawing, read_reference
from dovrek.sky.document import Sky
from dovrek.store import skies as store
from dovrek.store import versions as kept
from dovrek.web.live.boards import Board, Frame
from dovrek.web.live.looks import encoded, horizon_share
from dovrek.web.shared.answers import (
    body_of,
    changed,
    given_file,
    json_of,
    live,
    number_of,
    png_answer,
)
from dovrek.web.shared.photographs import framed_as, opened, skyline_of

Read = TypeVar("Read")
pages = Blueprint("matching", __name__, url_prefix="/skies/<slug>")

COMPARED_WIDTH, COMPARED_WAIT_S = 720, 20.0
LENS_LIMITS = (8.0, 800.0)
WAYS = {"side": "Side by side", "wipe": "Wipe", "blink": "Blink", "difference": "Difference"}


# -- versions -----------------------------------------------------------------------------


@pages.post("/versions")
def keep(slug: str) -> Any:
    body = json_of("name: give the version a name.")
    row = kept.keep_version(slug, str(body.get("name", ""))[:200])
    return jsonify({"note": f"Kept as the version {row.name}.", "id": row.id})


@pages.post("/versions/<int:number>/take")
def take(slug: str, number: int) -> Any:
    """Make a version the present, as one step that undo takes back."""
    row = kept.version(slug, number)
    sky = kept.sky_of(row)
    return changed(slug, f"Version {row.name}", lambda now: sky, body_of())


@pages.post("/versions/<int:number>/remove")
def drop(slug: str, number: int) -> Any:
    kept.remove_version(slug, number)
    return redirect(url_for("matching.compare", slug=slug))


# -- references ---------------------------------------------------------------------------


def _read_with(read: Callable[[bytes], Read], wanted: str) -> tuple[Read, str]:
    """What a reader of formats makes of the form's `picture`, and the file's name; refused in
    its words."""
    file = given_file("picture", wanted)
    name = str(file.filename)[:80]
    try:
        return read(file.read(BYTES_MOST + 1)), name
    except PhotographError as error:
        abort(422, f"{name}: {error}.")


@pages.post("/references")
def add_reference(slug: str) -> Any:
    """Take a photograph in (form: `picture`); its horizon line is proposed."""
    photograph, name = _read_with(read_reference,
                                  "choose a photograph (JPEG, PNG, TIFF, HDR or OpenEXR)")
    height, width = photograph.pixels.shape[:2]
    line = horizon_line(photograph.pixels)
    found = ("No land was seen in it, so that its horizon line began at the lower edge."
             if line is None else
             "A horizon line was proposed where land seems to begin; drag it if that is elsewhere.")
    row = kept.keep_reference(slug, name.rsplit(".", 1)[0] or "photograph",
                              photograph.png(), (width, height), photograph.lens_mm,
                              ". ".join(filter(None, (photograph.note, found))),
                              1.0 if line is None else round(line, 3))
    return redirect(url_for("matching.compare", slug=slug, first="present",
                            second=f"reference-{row.id}"))


@pages.post("/references/<int:number>/frame")
def frame(slug: str, number: int) -> Any:
    """Set a photograph's `lens_mm`, `horizon` (share from the top), `ratio` of red to blue or
    `skyline` (heights as such shares from left to right, by commas; empty for none)."""
    limits = {"lens_mm": LENS_LIMITS, "horizon": (0.02, 1.0), "ratio": RATIO_LIMITS}
    values: dict[str, Any] = {}
    if "skyline" in request.form:
        values["skyline"] = _checked_skyline(request.form["skyline"])
    for key, (low, high) in limits.items():
        if key in request.form:
            try:
                given: Any = float(request.form[key].replace(",", "."))
            except ValueError:
                given = None
            values[key] = number_of({key: given}, key, low, high)
    kept.frame_reference(slug, number, values)
    pair: dict[str, Any] = {key: request.form[key] for key in ("first", "second", "way")
                            if key in request.form}
    return redirect(url_for("matching.compare", slug=slug, **pair))


def _checked_skyline(text: str) -> str:
    """A skyline as it is kept; refused in words."""
    parts = [part for part in text[:2000].split(",") if part.strip()]
    try:
        heights = [float(part) for part in parts]
    except ValueError:
        heights = [math.nan]
    if not all(0.0 <= height <= 1.0 for height in heights):
        abort(422, "skyline: heights are shares of the picture's height, 0 at its top and 1 at its "
                   "foot; give numbers with a comma between them.")
    if len(heights) not in (0, SKYLINE_PARTS):
        abort(422, f"skyline: {len(heights)} heights were given; give {SKYLINE_PARTS}, one for "
                   "each part of the picture's width from left to right, or none.")
    return "" if all(height == 1.0 for height in heights) else ",".join(
        f"{height:.3f}" for height in heights)


@pages.post("/references/<int:number>/remove")
def drop_reference(slug: str, number: int) -> Any:
    kept.remove_reference(slug, number)
    return redirect(url_for("matching.compare", slug=slug))


@pages.get("/references/<int:number>.png")
def photograph(slug: str, number: int) -> Any:
    return png_answer(bytes(kept.reference(slug, number).picture))


# -- compare ------------------------------------------------------------------------------


def things(slug: str) -> list[tuple[str, str]]:
    """What can be compared: keys and names."""
    found = [("present", "The present")]
    found += [(f"version-{v.id}", str(v.name)) for v in kept.versions(slug)]
    found += [(f"reference-{number}", f"{name} (photograph)")
              for number, name in kept.reference_names(slug)]
    return found


def _number(key: str) -> int:
    tail = key.rpartition("-")[2]
    return int(tail) if tail.isdigit() else 0


def sky_behind(slug: str, key: str) -> Sky | None:
    """The sky of `present` or a version; None for a photograph. Raises NoSuchThing."""
    if key.startswith("reference-"):
        return None
    return kept.state(slug, "present" if key == "present" else str(_number(key)))[1]


def _row(slug: str, key: str) -> Any:
    return kept.reference(slug, _number(key)) if key.startswith("reference-") else None


def pair_of(slug: str) -> tuple[str, str]:
    """The two things asked for, or the likeliest two."""
    known = [key for key, _ in things(slug)]
    first = request.args.get("first", "present")
    second = request.args.get("second", known[1] if len(known) > 1 else "")
    for key in (first, second):
        if key and key not in known:
            raise kept.NoSuchThing("What was to be compared is no longer kept; choose another.")
    return first, second


@pages.get("/compare")
def compare(slug: str) -> Any:
    sky, revision = store.load(slug)
    first, second = pair_of(slug)
    way = request.args.get("way", "side")
    return render_template(
        "compare.html", slug=slug, sky=sky, revision=revision, things=things(slug), first=first,
        second=second, way=way if way in WAYS else "side", ways=WAYS, page="compare",
        versions=kept.versions(slug), photograph=_row(slug, second) or _row(slug, first),
        ratio_limits=RATIO_LIMITS, lens_limits=LENS_LIMITS, parts=SKYLINE_PARTS)


def pictured(slug: str, key: str, other: str) -> Pixels | None:
    """The pixels of a thing, framed like the photograph it is compared with; None while its
    picture is not ready within the wait."""
    row = _row(slug, key)
    if row is not None:
        return opened(bytes(row.picture))
    sky = sky_behind(slug, key)
    assert sky is not None
    beside = _row(slug, other) if other else None
    if beside is not None:
        sky = framed_as(sky, beside)
    board = live().order(Board(slug, key, [Frame(key, sky, lambda s: s)], COMPARED_WIDTH,
                               "proof"))
    done = live().boards.wait(board.id, 0, COMPARED_WAIT_S)
    if done is None or done.frames[0].png is None:
        return None  # it stays on order, and is ready when it is asked for again
    live().boards.drop(board.id)
    return opened(done.frames[0].png)


def sky_ends(slug: str, key: str, other: str) -> float:
    """Where the sky ends in a thing's picture, as a share of its height."""
    row = _row(slug, key)
    if row is not None:
        return float(row.horizon)
    sky = sky_behind(slug, key)
    assert sky is not None
    beside = _row(slug, other) if other else None
    sky = framed_as(sky, beside) if beside is not None else sky
    return horizon_share(sky)


def hidden_by_things(slug: str, key: str, pixels: Pixels, ends: float) -> Mask | None:
    """Where something stands before the sky of a photograph; nothing does in our pictures."""
    row = _row(slug, key)
    return standing(pixels, ends, skyline_of(row)) if row is not None else None


@pages.get("/compare/picture.png")
def picture(slug: str) -> Any:
    """One of the two (`key`), framed for the other (`other`); `mask` shows what counts as
    cloud, `against` the lightness difference to the other."""
    key, other = request.args.get("key", "present"), request.args.get("other", "")
    pixels = pictured(slug, key, other)
    if pixels is None:
        abort(503, "The picture is still being made; ask again in a moment.")
    if request.args.get("mask"):
        row = _row(slug, key) or _row(slug, other)
        ratio = float(row.ratio) if row is not None else RATIO
        ends = sky_ends(slug, key, other)
        pixels = mask_overlay(pixels, ends, ratio, hidden_by_things(slug, key, pixels, ends))
    elif request.args.get("against") and other:
        second = pictured(slug, other, key)
        if second is None:
            abort(503, "The picture is still being made; ask again in a moment.")
        size = (pixels.shape[1], pixels.shape[0])
        fitted = np.asarray(Image.fromarray(second).resize(size, Image.Resampling.LANCZOS))
        pixels = difference_of(pixels, fitted)
    return png_answer(encoded(pixels))


@pages.get("/compare/measures")
def measures(slug: str) -> Any:
    """The numbers measured on both pictures, as a panel."""
    first, second = pair_of(slug)
    photograph = _row(slug, first) or _row(slug, second)
    ratio = float(photograph.ratio) if photograph is not None else RATIO
    found = []
    for key, other in ((first, second), (second, first)):
        if not key:
            continue
        pixels = pictured(slug, key, other)
        if pixels is None:
            return render_template("measures.html", found=[], slug=slug, first=first,
                                   second=second)
        name = dict(things(slug))[key]
        ends = sky_ends(slug, key, other)
        found.append((name, likeness_of(pixels, ends, ratio,
                                        hidden_by_things(slug, key, pixels, ends))))
    return render_template("measures.html", found=found, ratio=ratio)


@pages.get("/overlay.png")
def drawing(slug: str) -> Any:
    row = kept.overlay(slug)
    if row is None:
        abort(404, "There is no drawing over this sky.")
    return png_answer(bytes(row.picture))


@pages.post("/overlay")
def add_drawing(slug: str) -> Any:
    """Lay a line drawing or a render with alpha over the picture (form: `picture`)."""
    png, name = _read_with(read_drawing, "choose a PNG, best with a transparent ground")
    kept.keep_overlay(slug, name, png)
    return jsonify({"note": "The drawing lies over the picture.",
                    "png": base64.b64encode(png).decode()})


@pages.post("/overlay/remove")
def drop_drawing(slug: str) -> Any:
    kept.remove_overlay(slug)
    return jsonify({"note": "The drawing is taken off."})
