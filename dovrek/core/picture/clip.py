"""Frames of a clip: which there are, and how the film is set along them."""

from __future__ import annotations

import math
from typing import cast

import numpy as np

from dovrek.core.picture.render import Metered, metered_scene
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.moments import scene_at
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.stage import Known, key_of
from dovrek.core.run.workers import Cancel
from dovrek.sky.clip import in_clip, sky_at
from dovrek.sky.document import Film, Sky

SHUTTER_DEG = 120.0  # of the shutter for each moment beside the first
METER_S = 1.0  # of the clip between two moments at which exposure is found


def seconds_of(sky: Sky, fps: float | None = None, begin_s: float = 0.0,
               end_s: float | None = None) -> list[float]:
    """Seconds of the clip at which its frames stand, from one second to before another."""
    rate = fps or sky.motion.fps
    end = sky.motion.length_s if end_s is None else min(end_s, sky.motion.length_s)
    first, last = int(np.ceil(begin_s * rate - 1e-9)), int(np.ceil(end * rate - 1e-9))
    return [k / rate for k in range(first, max(last, first + 1))]


def exposed_at(sky: Sky, clip_s: float) -> list[float]:
    """Moments that a frame is the mean of: the frame's own alone, or more for an open shutter, from
    its own on."""
    motion = sky.motion
    count = 1 + math.ceil(motion.shutter_deg / SHUTTER_DEG - 1e-9)
    open_s = motion.shutter_deg / 360.0 / motion.fps
    return [in_clip(sky, clip_s + open_s * k / count) for k in range(count)]


def metered_at(preparer: Preparer, sky: Sky, clip_s: float, fineness: Fineness,
               cancel: Cancel) -> Metered:
    """The film at a second: as at the start, or smoothly between what was metered about every
    second. Raises Cancelled."""
    clip_s, motion = in_clip(sky, clip_s), sky.motion
    plain = sky.model_copy(update={"film": Film(expose_for=sky.film.expose_for)})

    def at(moment_s: float) -> Metered:
        # Kept by the document itself: to know a scene's key would be to build it, and every frame
        # asks for two moments whose scenes may have been dropped since.
        place = ("metered moment", key_of(plain, moment_s, fineness.name))
        there, kept = preparer.cache.find(place)
        if not there:
            kept = found_at(moment_s)
            preparer.cache.put(place, kept)
        return cast(Metered, kept)

    def found_at(moment_s: float) -> Metered:
        scene = scene_at(preparer, sky, moment_s, fineness, cancel)
        there = sky_at(sky, moment_s)
        return preparer.maker(cancel).make(metered_scene(
            prepared=Known(scene.key, scene), camera=there.camera,
            expose_for=there.film.expose_for, in_hand=False))

    if motion.exposure == "fixed":
        found = at(0.0)
    else:
        apart = motion.length_s / max(round(motion.length_s / METER_S), 1)
        first = int(clip_s / apart + 1e-9)
        share = clip_s / apart - first
        found = at(first * apart)
        if share > 1e-6:
            other = at(min((first + 1) * apart, motion.length_s))
            smooth = share * share * (3.0 - 2.0 * share)
            found = found._replace(
                ev=found.ev + smooth * (other.ev - found.ev),
                kelvins=found.kelvins + smooth * (other.kelvins - found.kelvins))
    return found.set_by(sky_at(sky, clip_s).film)
