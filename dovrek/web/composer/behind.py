"""The picture behind a sky: taken in, framed as a reference is, its colours matched."""

from __future__ import annotations

import math
from typing import Any

from flask import Blueprint, abort

from dovrek.core.photo.likeness import pitch_of
from dovrek.core.picture.matched import tints_of_behind
from dovrek.core.run.workers import Cancel
from dovrek.formats import behind
from dovrek.sky.changes import with_values
from dovrek.sky.document import Camera
from dovrek.sky.errors import Fault, SkyError
from dovrek.store import skies as store
from dovrek.store.versions import reference
from dovrek.web.shared.answers import answer, base_of_form, body_of, given_file, number_of
from dovrek.web.shared.aside import aside

pages = Blueprint("behind", __name__, url_prefix="/skies/<slug>/behind")


@pages.post("")
def upload_behind(slug: str) -> Any:
    """Take a picture in that stands behind the sky (form: `base`, `picture`). The sun of one of
    the whole sky is found, and set."""
    given, base = given_file("picture", "choose a photograph or a picture of the whole sky"), (
        base_of_form())
    name = (given.filename or "The picture")[:80]
    try:
        found = behind.behind_of(given.read(behind.BYTES_MOST + 1))
    except behind.PhotographError as error:
        abort(422, f"{name}: {error}.")
    values: dict[str, Any] = {"behind.asset": found.asset,
                              "behind.kind": "dome" if found.around else "photograph",
                              "behind.lens_mm": found.lens_mm}
    said = list(found.notes)
    if found.brightest is not None and found.brightest[0] > 0.0:
        height, bearing = found.brightest
        values |= {"sun.mode": "free", "sun.elevation_deg": height, "sun.azimuth_deg": bearing}
        said.append(f"its sun was found {height:g}° high, bearing {bearing:g}°, and set")
    return answer(slug, store.change(slug, base, "Picture behind", lambda sky: with_values(
        sky, values)), note=f"{name}: {'; '.join(said)}." if said else "")


@pages.post("/reference")
def reference_behind(slug: str) -> Any:
    """Stand a kept photograph (`reference`, its number) behind the sky, fitted by its lens and by
    its horizon as they are set where it is compared."""
    body = body_of()
    row: Any = reference(slug, int(number_of(body, "reference", 1, 2**53)))
    try:
        found = behind.behind_of(bytes(row.picture), around=False)
    except behind.PhotographError as error:
        abort(422, f"{row.name}: {error}.")
    lens = Camera(lens_mm=min(max(row.lens_mm, 8.0), 800.0))
    fov_v = 2.0 * math.atan(math.tan(0.5 * lens.fov_h_rad) * row.height / row.width)
    values: dict[str, Any] = {
        "behind.asset": found.asset, "behind.kind": "photograph", "behind.lens_mm": lens.lens_mm,
        "behind.heading_deg": None, "behind.pitch_deg": round(pitch_of(row.horizon, fov_v), 1)}
    return answer(slug, store.change(slug, body["base"], "Picture behind", lambda sky: with_values(
        sky, values)), note=f"{row.name} stands behind, by its lens of {lens.lens_mm:g} mm and its "
                  "horizon.")


@pages.post("/tints")
def match_tints(slug: str) -> Any:
    """Give the shown layers a wash that matches the picture behind (form: `base`)."""
    body = body_of()
    sky, _ = store.load(slug)
    tints = aside(lambda preparer: tints_of_behind(sky, preparer, Cancel()))
    if tints is None:
        raise SkyError([Fault("behind.asset", "the picture behind", "shows none of its sky in the "
                              "camera's frame", "raise the camera's pitch, or choose a picture")])
    shown = [x for x in sky.layers if x.visible]
    if not shown:
        raise SkyError([Fault("layers", "no layer", "is shown before the picture",
                              "add a layer first")])
    values = {f"layers[{x.id}].wash.{name}": value for x in shown
              for name, value in {**tints._asdict(), "strength": 1.0}.items()}
    return answer(slug, store.change(slug, body["base"], "Match tints", lambda sky: with_values(
        sky, values)), note="Layers take on the picture's colours; each one's Wash says how much.")
