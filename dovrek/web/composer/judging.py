"""Test strips and contact sheets: small pictures of what a sky could be, to choose from."""

from __future__ import annotations

import base64
import math
from itertools import product
from typing import Any

from flask import Blueprint, abort, jsonify, render_template, request

from dovrek.sky.document import Sky
from dovrek.sky.parameter import Parameter
from dovrek.sky.trials import (
    FEWEST,
    MOST,
    declaration_of,
    range_near,
    value_at,
    values_to_try,
)
from dovrek.store import skies as store
from dovrek.web.composer.sheets import SHEETS
from dovrek.web.composer.sheets.frames import frame_of, setting
from dovrek.web.live.boards import Board, Frame
from dovrek.web.shared.answers import body_of, changed, json_of, live, look

pages = Blueprint("judging", __name__, url_prefix="/skies/<slug>")

STRIP_WIDTH, GRID_WIDTH, SHEET_WIDTH = 192, 128, 240
GRID_COUNT = 4
WAIT_SECONDS = 8.0
EV_SPAN, KELVIN_SPAN = 2.0, 1.6  # of the strip of an automatic value, about what was metered


def _range(slug: str, sky: Sky, path: str, parameter: Parameter,
           wanted: dict[str, Any]) -> tuple[float | None, float | None]:
    """The range of a strip: as asked for, about the value at hand, or the whole."""
    now = value_at(sky, path)
    if parameter.optional and now is None:
        session = live().session(slug, look())
        if session is not None and session.metered is not None:
            ev, kelvins = session.metered[:2]
            if path == "film.exposure_ev":
                return ev - EV_SPAN, ev + EV_SPAN
            if path == "film.white_balance_k":
                return kelvins / KELVIN_SPAN, kelvins * KELVIN_SPAN
    if wanted.get("near") and isinstance(now, int | float):
        return range_near(parameter, float(now))
    low, high = wanted.get("low"), wanted.get("high")
    if not (isinstance(low, int | float) and isinstance(high, int | float)) or low == high:
        return None, None
    if not (math.isfinite(low) and math.isfinite(high)):
        abort(422, "low, high: give finite numbers for the range of a strip.")
    return float(low), float(high)


def strip_of(slug: str, sky: Sky, wanted: dict[str, Any]) -> Board:
    """A strip of one control, or a grid of two (`path`, `other`)."""
    paths = [str(wanted[name]) for name in ("path", "other") if wanted.get(name)]
    if not paths:
        abort(422, "path: name the control to try.")
    count = wanted.get("count", 5)
    if not isinstance(count, int) or not FEWEST <= count <= MOST:
        abort(422, f"count: a strip has {FEWEST} to {MOST} pictures.")
    grid = len(paths) > 1
    tried = [_tried(slug, sky, path, min(count, GRID_COUNT) if grid else count,
                    wanted if path == paths[0] else {}) for path in paths]
    labels = [found.label for found in map(declaration_of, paths) if found]
    frames = [frame_of(sky, " · ".join(text for text, _ in chosen), labels[0],
                     setting(dict(zip(paths, (value for _, value in chosen), strict=True))))
              for chosen in (tuple(reversed(pick)) for pick in product(*reversed(tried)))]
    title = " × ".join(labels)
    return Board(slug, title, _shown(frames, title), GRID_WIDTH if grid else STRIP_WIDTH,
                 columns=len(tried[0]), look=look())


def _tried(slug: str, sky: Sky, path: str, count: int,
           wanted: dict[str, Any]) -> list[tuple[str, Any]]:
    """Labels and values of one control of a strip."""
    parameter = declaration_of(path)
    low, high = None, None
    try:
        if parameter is not None and parameter.kind in ("number", "integer"):
            low, high = _range(slug, sky, path, parameter, wanted)
        return values_to_try(sky, path, count, low, high)
    except (ValueError, AttributeError) as error:
        abort(422, f"path: {error}.")


def sheet_of(slug: str, sky: Sky, kind: str, layer_id: str) -> Board:
    """A contact sheet of a kind that SHEETS lists, of a layer or of the whole sky."""
    layer = next((x for x in sky.layers if x.id == layer_id), None)
    sheet = SHEETS.get(kind)
    if sheet is None or not (sheet.of_layer if layer else sheet.of_sky):
        wanted = [name for name, x in SHEETS.items() if layer or x.of_sky]
        abort(422, f"kind: a sheet shows {', '.join(wanted)}"
                   f"{'' if layer else ', or more of a chosen layer'}.")
    shown = (layer.name or layer.genus) if layer else "the whole sky"
    title = sheet.title.format(shown)
    return Board(slug, title, _shown(sheet.frames(sky, layer), title), SHEET_WIDTH, look=look())


def _shown(frames: list[Frame | None], title: str) -> list[Frame]:
    """The frames there are; refused when the layer is held and there is none."""
    found = [f for f in frames if f]
    if not found:
        abort(422, f"{title}: the layer is locked or frozen; let it go first.")
    return found


def frame_data(board: Board, index: int) -> dict[str, Any]:
    frame = board.frames[index]
    return {"index": index, "fault": frame.fault,
            "png": base64.b64encode(frame.png).decode() if frame.png else ""}


def _ordered(board: Board) -> Any:
    live().order(board)
    return render_template("board.html", board=board, slug=board.slug)


@pages.post("/strip")
def strip(slug: str) -> Any:
    """Order a strip; the answer is its frames, still empty, as a panel."""
    sky, _ = store.load(slug)
    wanted = json_of("path: name the control to try.")
    return _ordered(strip_of(slug, sky, wanted))


@pages.post("/sheet")
def sheet(slug: str) -> Any:
    """Order a contact sheet; answered like a strip."""
    sky, _ = store.load(slug)
    wanted = json_of("kind: say what the sheet shows.")
    return _ordered(sheet_of(slug, sky, str(wanted.get("kind", "")),
                             str(wanted.get("layer", ""))))


def _board(slug: str, number: int) -> Board:
    board = live().boards.find(number)
    if board is None or board.slug != slug:
        abort(404, "These pictures are no longer kept; order the strip again.")
    return board


@pages.get("/boards/<int:number>")
def painted(slug: str, number: int) -> Any:
    """Frames that are ready beyond those the window has (long poll)."""
    _board(slug, number)
    known = {int(k) for k in request.args.get("have", "").split(",") if k.isdigit()}
    board = live().boards.wait(number, len(known), WAIT_SECONDS)
    if board is None:
        abort(404, "These pictures are no longer kept; order the strip again.")
    fresh = [frame_data(board, k) for k, f in enumerate(board.frames)
             if f.ready and k not in known]
    return jsonify({"frames": fresh, "done": all(f.ready for f in board.frames)})


@pages.post("/boards/<int:number>/choose")
def choose(slug: str, number: int) -> Any:
    """Take one picture's values into the sky as it stands."""
    body = body_of()
    board, index = _board(slug, number), body.get("index")
    if not isinstance(index, int) or not 0 <= index < len(board.frames):
        abort(422, "index: there is no such picture on the strip.")
    frame = board.frames[index]
    return changed(slug, frame.note or board.title, frame.alter, body)


@pages.post("/boards/<int:number>/drop")
def drop(slug: str, number: int) -> Any:
    _board(slug, number)
    live().boards.drop(number)
    return jsonify({})
