"""The clip: its strip of film, a ruled row for each keyed control, keys set and moved, and small
frames of the motion that are painted to play."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Blueprint, abort, jsonify

from dovrek.core.picture.clip import seconds_of
from dovrek.sky.clip import keyed_value
from dovrek.sky.document import Sky
from dovrek.sky.keying import present_value, with_key, with_key_moved, without_key
from dovrek.sky.motion import Motion
from dovrek.sky.parameter import Parameter, parameters_of
from dovrek.sky.trials import declaration_of, layer_of
from dovrek.store import skies as store
from dovrek.web.composer.schedule import number_text
from dovrek.web.live.boards import Board, Frame
from dovrek.web.shared.answers import body_of, changed, json_of, live, look, number_of

pages = Blueprint("clip", __name__, url_prefix="/skies/<slug>")

FILM_FRAMES, FILM_WIDTH = 9, 160
PROOF_FPS, PROOF_WIDTH, COARSE_WIDTH, COARSER = 12.0, 480, 240, 4
PROOF_MOST = 720  # frames of a proof
LOOKS = 96  # at a curve, over the clip
ROW_WIDTH, ROW_HEIGHT = 1000.0, 34.0


@dataclass(frozen=True)
class KeyRow:
    """A keyed control as its row shows it."""

    path: str
    title: str
    unit: str
    line: str  # of its curve
    points: list[dict[str, Any]]
    low: float
    high: float
    now: str


def _place(parameter: Parameter, value: Any, low: float, high: float) -> float:
    """Height of a value in its row, from the top."""
    if isinstance(value, bool):
        share = 1.0 if value else 0.0
    elif isinstance(value, str):
        share = 0.5
    else:
        share = (float(value) - low) / (high - low) if high > low else 0.5
    return (ROW_HEIGHT - 10.0) * (1.0 - min(max(share, 0.0), 1.0)) + 5.0


def _text(parameter: Parameter, value: Any) -> str:
    if isinstance(value, bool):
        return "on" if value else "off"
    return value if isinstance(value, str) else number_text(float(value), parameter)


def rows_of(sky: Sky, clip_s: float) -> list[KeyRow]:
    """A row for each keyed control, in the document's order."""
    length, found = sky.motion.length_s, []
    for path, keys in sky.motion.keys.items():
        known = declaration_of(path)
        if known is None:
            continue
        seen = [keyed_value(sky, path, length * k / LOOKS) for k in range(LOOKS + 1)]
        numbers = [float(v) for v in [*seen, *(p.value for p in keys.points)]
                   if not isinstance(v, str)] or [0.0]
        room = 0.15 * (max(numbers) - min(numbers)) or 0.05 * (
            float(known.high or 1.0) - float(known.low or 0.0))
        low, high = min(numbers) - room, max(numbers) + room
        line = "M" + "L".join(f"{ROW_WIDTH * k / LOOKS:.1f} {_place(known, v, low, high):.1f}"
                              for k, v in enumerate(seen))
        points = [{"at": p.at_s, "x": round(ROW_WIDTH * min(p.at_s / length, 1.0), 1),
                   "y": round(_place(known, p.value, low, high), 1), "value": p.value,
                   "text": _text(known, p.value), "ease": p.ease} for p in keys.points]
        layer = layer_of(sky, path)
        title = known.label + (f", {layer.name or layer.genus}" if layer else "")
        found.append(KeyRow(path, title, known.unit, line, points, low, high,
                            _text(known, keyed_value(sky, path, clip_s))))
    return found


def clip_of(sky: Sky, clip_s: float | None) -> dict[str, Any]:
    """What the clip's panel shows."""
    motion, now = sky.motion, min(clip_s or 0.0, sky.motion.length_s)
    controls = [{"p": p, "value": getattr(motion, p.path),
                 "text": number_text(getattr(motion, p.path), p) if p.kind == "number" else ""}
                for p in parameters_of(Motion) if p.path != "keys"]
    step = next(s for s in (0.5, 1, 2, 5, 10, 20, 60, 120) if motion.length_s / s <= 12)
    marks = [round(k * step, 2) for k in range(int(motion.length_s / step) + 1)]
    return {"motion": motion, "controls": controls, "now": now, "share": now / motion.length_s,
            "marks": [(m / motion.length_s, f"{m:g}") for m in marks],
            "rows": rows_of(sky, now), "film": range(FILM_FRAMES),
            "row_height": ROW_HEIGHT}


def _at(sky: Sky, body: dict[str, Any]) -> float:
    return number_of(body, "at_s", 0.0, sky.motion.length_s)


def _path(body: dict[str, Any]) -> str:
    path = body.get("path")
    if not isinstance(path, str) or not path:
        abort(422, "path: name the control to key.")
    return path[:200]


def _ease(body: dict[str, Any]) -> str | None:
    ease = body.get("ease")
    if ease is not None and ease not in ("hold", "linear", "smooth"):
        abort(422, "ease: choose hold, linear or smooth.")
    return ease


@pages.post("/key")
def key(slug: str) -> Any:
    """Fix a control at `at_s` of the clip: at its `value`, or at what it is then."""
    body = body_of()
    path, ease = _path(body), _ease(body)

    def alter(sky: Sky) -> Sky:
        at_s = _at(sky, body)
        value = body["value"] if "value" in body else present_value(sky, path, at_s)
        return with_key(sky, path, at_s, value, ease)

    return changed(slug, "Key", alter, body)


@pages.post("/key/move")
def move(slug: str) -> Any:
    """Put the key `index` of a control to `at_s` and `value`, eased as `ease`."""
    body = body_of()
    path, index, ease = _path(body), body.get("index"), _ease(body)
    if not isinstance(index, int) or "value" not in body:
        abort(422, "index, value: say which key, and what it is to be.")
    return changed(slug, "Move a key", lambda sky: with_key_moved(
        sky, path, index, _at(sky, body), body["value"], ease), body)


@pages.post("/key/remove")
def remove(slug: str) -> Any:
    """Remove the key `index` of a control."""
    body = body_of()
    path, index = _path(body), body.get("index")
    if not isinstance(index, int):
        abort(422, "index: say which key.")
    return changed(slug, "Remove a key", lambda sky: without_key(sky, path, index), body)


def keyed_change(sky: Sky, values: dict[str, Any], clip_s: float) -> tuple[dict[str, Any], Sky]:
    """What of a change goes into the document as it is, and the sky with the keyed rest fixed at
    the second shown."""
    plain = {p: v for p, v in values.items() if p not in sky.motion.keys}
    for path, value in values.items():
        if path in sky.motion.keys:
            sky = with_key(sky, path, min(clip_s, sky.motion.length_s), value)
    return plain, sky


@pages.post("/film")
def film(slug: str) -> Any:
    """Order small frames of the clip: a strip, or a proof (`coarse`, `fine`) that plays."""
    wanted = json_of("kind: say which frames of the clip.")
    sky, _ = store.load(slug)
    kind, length = str(wanted.get("kind", "")), sky.motion.length_s
    if kind == "strip":
        seconds = [length * (k + 0.5) / FILM_FRAMES for k in range(FILM_FRAMES)]
        width = FILM_WIDTH
    elif kind in ("coarse", "fine"):
        every = seconds_of(sky, min(PROOF_FPS, sky.motion.fps))
        if len(every) > PROOF_MOST:
            abort(422, f"length: a proof has at most {PROOF_MOST} frames, a minute at 12 a second; "
                       "make the clip shorter")
        seconds = every[::COARSER] if kind == "coarse" else every
        width = COARSE_WIDTH if kind == "coarse" else PROOF_WIDTH
    else:
        abort(422, "kind: a film is a strip, or a coarse or fine proof.")
    frames = [Frame(f"{s:.2f} s", sky, lambda now: now, clip_s=s) for s in seconds]
    board = Board(slug, "Motion", frames, width, look=look()._replace(clip_s=None),
                  soon=kind != "fine")
    live().order(board)
    return jsonify({"board": board.id, "seconds": seconds, "length": length})

