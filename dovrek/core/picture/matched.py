"""Tints for the layers that stand before a picture, so that they take on its colours."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.air.sunlight import illuminances
from dovrek.core.colour.film import encode_srgb
from dovrek.core.colour.spectrum import RGB_TO_XYZ, XYZ_TO_RGB
from dovrek.core.geometry.lens import picture_lens
from dovrek.core.picture.behind import light_behind
from dovrek.core.picture.render import QUALITIES, meter_sky, render_frame
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import ALPHA
from dovrek.sky.behind import Behind
from dovrek.sky.document import Sky
from dovrek.sky.fog import Fog

SIZE = (64, 36)
BRIGHT = 0.97  # of the picture's sky: what is brighter is lit by the sun
LEAST_PIXELS = 12


class Tints(NamedTuple):
    """Colours of a wash, as documents write them."""

    lit: str
    body: str
    base: str


def tints_of_behind(sky: Sky, preparer: Preparer, cancel: Cancel) -> Tints | None:
    """What the picture behind a sky asks of its layers' colours: its own sky's over that of our
    air seen by the same camera, for the body; of its brightest parts over our daylight's, for the
    lit side; of its ground's over our ground's, for the base. None where the camera sees none of
    its sky. Raises Cancelled."""
    clear = sky.model_copy(update={"layers": [], "fog": Fog(), "behind": Behind()})
    prepared = preparer.scene(clear, SKETCH, cancel)
    metered = meter_sky(sky.camera, prepared, preparer.workers, cancel).set_by(sky.film)
    lens = picture_lens(sky.camera, SIZE[0] / SIZE[1])
    theirs = light_behind(sky, lens, SIZE, metered, 0, SIZE[1])
    if theirs is None:
        return None
    ours = render_frame(prepared, lens, SIZE, QUALITIES["draft"], preparer.workers, cancel,
                        sun_disc=False)
    open_sky = render_frame(prepared, lens, SIZE, QUALITIES["draft"], preparer.workers, cancel,
                            sun_disc=False, ground=False)[..., ALPHA] > 0.5
    if open_sky.sum() < LEAST_PIXELS:
        return None
    body = _ratio(theirs[open_sky].mean(axis=0), ours[open_sky][:, :3].mean(axis=0))
    bright = theirs[open_sky]
    bright = bright[bright[:, 1] >= np.quantile(bright[:, 1], BRIGHT)].mean(axis=0)
    air = prepared.atmosphere
    direct, diffuse = illuminances(air.media, air.sun, air.scattered, prepared.sun)
    base = body
    if (~open_sky).sum() >= LEAST_PIXELS:
        base = _ratio(theirs[~open_sky].mean(axis=0), ours[~open_sky][:, :3].mean(axis=0))
    return Tints(*(colour_of_ratio(r) for r in (_ratio(bright, direct + diffuse), body, base)))


def _ratio(theirs: NDArray[np.floating], ours: NDArray[np.floating]) -> NDArray[np.float64]:
    """One light's XYZ over another's, as bright."""
    ratio = np.asarray(theirs, dtype=np.float64) / np.maximum(ours, 1e-12)
    return np.asarray(ratio / max(float(ratio[1]), 1e-12))


def colour_of_ratio(ratio: NDArray[np.float64]) -> str:
    """The colour whose tint multiplies X, Y and Z so, as far as there is one; its brightest channel
    is full."""
    rgb = XYZ_TO_RGB @ (ratio * RGB_TO_XYZ.sum(axis=1))
    grey = float(ratio[1])
    low = float(rgb.min())
    if low < 0.0:  # outside: toward grey, as bright
        rgb = grey + (rgb - grey) * grey / (grey - low)
    rgb = rgb / max(float(rgb.max()), 1e-12)
    return "#" + "".join(f"{round(255.0 * float(encode_srgb(v))):02x}" for v in rgb)
