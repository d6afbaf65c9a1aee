"""Direct handling of a view: drag the sun, aim the camera, read the light under the pointer."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from flask import Blueprint, abort, jsonify, request
from numpy.typing import NDArray

from dovrek.core.air.sun_place import sun_path, sun_place
from dovrek.core.colour.curve import white_from
from dovrek.core.colour.film import ISO_CONSTANT
from dovrek.core.geometry.lens import direction_at
from dovrek.core.geometry.travel import from_site
from dovrek.core.picture.render import Metered
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.store import skies as store
from dovrek.web.composer.overlay import angles_of, lens_of, vector_of
from dovrek.web.live.looks import Look, encoded
from dovrek.web.shared.answers import body_of, changed, live, look, number_of, png_answer

pages = Blueprint("handling", __name__, url_prefix="/skies/<slug>")

REACH = 3.0  # how far outside the frame a drag may go
PATH_SAMPLES = 289
# False colours by stops from middle grey: a ramp of even steps of lightness from ink blue over
# grey to straw; what the film burns out is rust, what it loses in the dark is violet.
STOPS = (-5, -4, -3, -2, -1, 0, 1, 2, 3)
RAMP = ((38, 30, 62), (44, 52, 92), (50, 78, 112), (66, 106, 124), (98, 130, 130),
        (142, 150, 140), (178, 168, 132), (208, 190, 122), (236, 218, 138))
RAMP_HEX = tuple(f"#{r:02x}{g:02x}{b:02x}" for r, g, b in RAMP)
BURNT = (170, 58, 24)


def sun_moved(sky: Sky, look: Look, u: float, v: float) -> Sky:
    """The sky with its sun at a place of the view.

    Tied to the clock it slides along the day's path to the nearest hour; free it goes anywhere.
    On a plan only the bearing is given: the hour with that bearing, or the bearing itself.
    """
    lens = lens_of(sky, look)
    by_bearing = look.from_above
    if by_bearing:
        aspect = look.aspect(sky)
        wanted = vector_of(0.0, math.atan2(u - 0.5, (0.5 - v) / aspect))
    else:
        wanted = direction_at(lens, u, v)
    wanted = from_site(sky, wanted)
    if sky.sun.mode == "free":
        elevation, azimuth = angles_of(wanted)
        values = {"sun.azimuth_deg": round(azimuth, 1)}
        if not by_bearing:
            values["sun.elevation_deg"] = round(elevation, 1)
        return with_values(sky, values)

    def apart(place: Any) -> float:
        height = 0.0 if by_bearing else place.elevation
        return -float(vector_of(height, place.azimuth) @ wanted)

    path = sun_path(sky, PATH_SAMPLES)[:-1]
    moment, _ = min(path, key=lambda step: apart(step[1]))
    return with_values(sky, {"moment": moment.replace(tzinfo=None).isoformat(timespec="minutes")})


def aimed(sky: Sky, start: tuple[float, float], end: tuple[float, float],
          heading: float, pitch: float) -> Sky:
    """The sky with its camera turned so that what lay at `start` lies at `end` of the frame,
    from the heading and pitch (degrees) that the drag began with."""
    begun = with_values(sky, {"camera.heading_deg": heading, "camera.pitch_deg": pitch})
    lens = lens_of(begun, Look())
    (e0, a0), (e1, a1) = (angles_of(direction_at(lens, *p)) for p in (start, end))
    turned = (heading + (a0 - a1 + 180.0) % 360.0 - 180.0) % 360.0
    return with_values(sky, {
        "camera.heading_deg": round(turned, 2),
        "camera.pitch_deg": round(min(max(pitch + e0 - e1, -90.0), 90.0), 2)})


@pages.post("/sun")
def sun(slug: str) -> Any:
    """Put the sun at `u`, `v` of the view."""
    body = body_of()
    u, v = (number_of(body, name, 1.0 - REACH, REACH) for name in "uv")
    return changed(slug, "Sun", lambda sky: sun_moved(sky, look(), u, v), body)


@pages.post("/aim")
def aim(slug: str) -> Any:
    """Turn the camera by a drag from `u0`, `v0` to `u`, `v`, begun at `heading` and `pitch`."""
    body = body_of()
    u0, v0, u, v = (number_of(body, n, 1.0 - REACH, REACH) for n in ("u0", "v0", "u", "v"))
    heading, pitch = number_of(body, "heading", 0.0, 360.0), number_of(body, "pitch", -90.0, 90.0)
    return changed(slug, "Aim the camera",
                   lambda sky: aimed(sky, (u0, v0), (u, v), heading, pitch), body)


@pages.get("/where")
def where(slug: str) -> Any:
    """Sun and camera in words, for the line shown while dragging."""
    sky, _ = store.load(slug)
    place = sun_place(sky)
    return jsonify({"sun": (
        f"sun {math.degrees(place.elevation):.1f}° high, bearing "
        f"{math.degrees(place.azimuth) % 360:.0f}°"
        + (f", {sky.local_moment().strftime('%H:%M')}" if sky.sun.mode == "clock" else "")),
        "camera": f"heading {sky.camera.heading_deg:.0f}°, pitch {sky.camera.pitch_deg:.1f}°, "
                  f"{sky.camera.lens_mm:.0f} mm"})


def reading_of(sky: Sky, look: Look, light: NDArray[np.float32], ev: float, u: float,
               v: float) -> dict[str, Any]:
    """Numbers of the picture at a place: luminance, stops from middle grey, the cloud hit."""
    h, w = light.shape[:2]
    pixel = light[min(int(v * h), h - 1), min(int(u * w), w - 1)]
    luminance = max(float(pixel[1]), 0.0)
    stops = math.log2(max(luminance, 1e-9) / (2.0**ev * ISO_CONSTANT))
    found: dict[str, Any] = {"luminance_cd_m2": luminance, "stops": round(stops, 2),
                             "what": "ground", "ev": round(ev + stops, 1)}
    lens = lens_of(sky, look)
    distance = float(pixel[4])
    if look.from_above:
        found["what"] = "cloud" if distance > 0 else "ground"
        return found
    ray = direction_at(lens, u, v)
    elevation, azimuth = angles_of(ray)
    found |= {"elevation_deg": round(elevation, 1), "azimuth_deg": round(azimuth, 1)}
    if distance <= 0.0:
        found["what"] = "clear sky" if ray[2] > 0 else "ground"
        return found
    radius = sky.air.planet_m
    eye = radius + sky.camera.altitude_m
    above = math.sqrt(eye**2 + distance**2 + 2 * eye * distance * float(ray[2])) - radius
    altitude = above + sky.site.elevation_m
    found |= {"what": "cloud", "distance_m": round(distance), "altitude_m": round(altitude)}
    near = [x for x in sky.layers if x.visible and x.cover_oktas > 0]
    hit = min(near, default=None, key=lambda x: max(x.base_m - altitude, altitude - x.top_m, 0.0))
    if hit is not None:
        found |= {"layer": hit.id, "what": hit.name or hit.genus}
    return found


@pages.get("/reading")
def reading(slug: str) -> Any:
    """The light at `u`, `v` of the picture shown, absolute and against the film."""
    u, v = (request.args.get(name, -1.0, type=float) for name in "uv")
    if not (0.0 <= u <= 1.0 and 0.0 <= v <= 1.0):
        abort(422, "u, v: give a place inside the picture, 0 to 1.")
    session = live().session(slug, look())
    if session is None or session.light is None or session.metered is None:
        abort(404, "There is no picture yet.")
    metered = session.metered.set_by(session.sky.film)
    return jsonify(reading_of(session.sky, look(), session.light, metered.ev, u, v))


def false_colours(light: NDArray[np.float32], metered: Metered) -> NDArray[np.uint8]:
    """(h, w, 3) exposure in steps of one stop about middle grey."""
    stops = np.log2(np.maximum(light[..., 1], 1e-9) / (2.0**metered.ev * ISO_CONSTANT))
    ramp = np.array(RAMP, dtype=np.uint8)
    picture: NDArray[np.uint8] = ramp[np.clip(np.round(stops) - STOPS[0], 0,
                                              len(RAMP) - 1).astype(int)]
    picture[stops > white_from(metered.curve, metered.contrast)] = BURNT
    return picture


@pages.get("/exposure.png")
def exposure(slug: str) -> Any:
    """The picture shown, in false colours of its exposure."""
    session = live().session(slug, look())
    if session is None or session.light is None or session.metered is None:
        abort(404, "There is no picture yet.")
    return png_answer(encoded(false_colours(
        session.light, session.metered.set_by(session.sky.film))), kept=False)
