"""What the composer's routes share: the body of a change, and the answer to one."""

from __future__ import annotations

import base64
from collections.abc import Callable
from typing import Any

from flask import Response, abort, current_app, jsonify, request

from dovrek.core.picture.studio import EXTENT_KM
from dovrek.sky.document import Sky
from dovrek.sky.trials import declaration_of, layer_of
from dovrek.store import skies as store
from dovrek.web.live.live import Live
from dovrek.web.live.looks import Look

GESTURE_LIMIT = 60


def live() -> Live:
    found: Live = current_app.extensions["live"]
    return found


def look() -> Look:
    """The view that the asking window has open."""
    return Look.of(request.args.get("view", "picture"),
                   request.args.get("extent", EXTENT_KM, type=float),
                   request.args.get("alone", ""), request.args.get("clip", type=float))


def units() -> str:
    """Units of heights this window shows: metres or feet."""
    return "feet" if request.cookies.get("units") == "feet" else "metres"


def answer(slug: str, written: store.Written, **more: Any) -> Any:
    shown = live().show(slug, written.sky, written.revision, look(),
                        held=request.args.get("held") == "1")
    more["turn"] = live().turn(slug, look())
    if shown is not None:  # one way instead of two to a picture that is ready
        more["picture"] = shown.data() | {"image": base64.b64encode(shown.image).decode()}
    return jsonify({"revision": written.revision, "touched": ["steps", *written.touched],
                    "others": [place_name(written.sky, p) for p in written.others], **more})


def place_name(sky: Sky, path: str) -> str:
    """A document path in the words of the schedule."""
    known = declaration_of(path)
    if path.startswith("layers["):
        layer = layer_of(sky, path)
        title = (layer.name or layer.genus) if layer else "a layer that is gone"
        return f"{known.label} of {title}" if known else title
    return f"{known.label} ({known.group})" if known else path


def size_text(count: int) -> str:
    """Bytes in words: 340 kB, 12.5 MB, 3.2 GB."""
    if count >= 1e9:
        return f"{count / 1e9:.1f} GB"
    return f"{count / 1e6:.1f} MB" if count >= 1e6 else f"{max(count, 0) / 1e3:.0f} kB"


def given_file(field: str, wanted: str) -> Any:
    """The file of a form's field; refused in words when there is none."""
    file = request.files.get(field)
    if file is None or not file.filename:
        abort(422, f"{field}: nothing was chosen; {wanted}.")
    return file


def png_answer(data: bytes, kept: bool = True) -> Response:
    """A PNG that a browser may keep as long as it asks whether it still holds, or not at all."""
    response = Response(data, mimetype="image/png")
    response.headers["Cache-Control"] = "no-cache" if kept else "no-store"
    return response


def json_of(refusal: str) -> dict[str, Any]:
    """The request's JSON object; refused in these words when there is none."""
    wanted = request.get_json(silent=True)
    if not isinstance(wanted, dict):
        abort(422, refusal)
    return wanted


def attachment(text: str, name: str) -> Response:
    """JSON to download under a name."""
    response = Response(text, mimetype="application/json")
    response.headers["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


NO_BASE = "base: the change names no revision it stands on; reload the page."


def body_of() -> dict[str, Any]:
    body = request.get_json(silent=True)
    if not isinstance(body, dict) or not isinstance(body.get("base"), int):
        abort(422, NO_BASE)
    return body


def base_of_form() -> int:
    """The revision a form's change stands on."""
    base = request.form.get("base", type=int)
    if base is None:
        abort(422, NO_BASE)
    return base


def changed(slug: str, note: str, alter: Callable[[Sky], Sky], body: dict[str, Any],
            **more: Any) -> Any:
    """Store a change at once and answer with what came of it."""
    live().hush()
    return answer(slug, store.change(slug, body["base"], note, alter,
                                     str(body.get("gesture", ""))[:GESTURE_LIMIT]), **more)


def with_new_layer(slug: str, note: str, alter: Callable[[Sky], tuple[Sky, str]],
                   body: dict[str, Any], kind: str = "layer") -> Any:
    """Store a change that adds a layer, or a thing of another kind, and answer with that selected;
    `alter` returns the sky and the new thing's id."""
    new: list[str] = []

    def only_sky(sky: Sky) -> Sky:
        led, layer_id = alter(sky)
        new.append(layer_id)
        return led

    written = store.change(slug, body["base"], note, only_sky)
    return answer(slug, written, selected=f"{kind}:{new[0]}")


def number_of(body: dict[str, Any], name: str, low: float, high: float) -> float:
    """A number of a request's body, refused by name when it is none or out of range."""
    value = body.get(name)
    if isinstance(value, bool) or not isinstance(value, int | float) or not low <= value <= high:
        abort(422, f"{name}: give a number from {low:g} to {high:g}.")
    return float(value)
