"""What clouds of a genus would show in a photograph's frame, and at which cover they show as much.

Frames of such a sky are rendered small and measured as the photograph was (`cloud_look`).
"""

from __future__ import annotations

import math
import time
from dataclasses import replace
from itertools import product
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.geometry.lens import picture_lens
from dovrek.core.photo.clear_fit import (
    PHOTO_WIDTH,
    SHADE,
    STRICT,
    Clear,
    Framing,
    Match,
    descend,
    moved,
)
from dovrek.core.photo.clear_skies import ClearSkies, free_sun
from dovrek.core.photo.cloud_look import WIDTH, Stage
from dovrek.core.photo.grade import UNGRADED, as_pixels, developed
from dovrek.core.photo.likeness import Mask, Pixels, made_small, shares_at
from dovrek.core.picture.render import Quality, meter_sky, render_frame
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.reading import sky_from_data, sky_to_data

LEAST_SPREAD, MOST_APART = 0.01, 9.0  # of one feature: none decides alone
CLOSER_STEPS, FIT_STEPS = 4, 5
LOST = (0.6, 1.1)  # changes of sun height and haze, as points have them, that clouds do not make
UNBROKEN_SHARE = 0.9985  # of a frame under cloud, beyond which no gap is taken to be there
FULL_SLACK = 0.05  # by which frames of one sky differ in their share of cloud, about
TURNS = (-15.0, 15.0)  # degrees, of frames that see other clouds in the same air
DEALS = 8  # tried for clouds that stand about as the photograph's do
PLACES = (8, 4)  # blocks of a frame, across and down, in which they are compared
SEARCH = Quality("search", SKETCH, 1, 1.7, 1.0, 0.3, 0.2)
QUANTILES = np.linspace(0.05, 0.95, 10)
Array = NDArray[np.float64]


def lit(sky: Sky, found: Clear) -> Sky:
    """The sky without cloud under the sun and haze that were found."""
    return free_sun(sky.model_copy(update={"layers": []}), found.elevation_deg,
                    sky.camera.heading_deg + found.bearing_deg, found.haze)


class Seen(NamedTuple):
    """What frames of a cloudy sky show when they are looked at as photographs are."""

    share: float  # of the sky under cloud
    off: Array  # by which the fit of the clear sky is led astray, a difference of points
    looks: Array  # (frames, features)


class Answer(NamedTuple):
    """A genus over a clear sky, as near as it can be brought."""

    found: Clear
    cover: float
    looks: Array


class Clouds:
    """Cloud of a photograph over the clear sky fitted to it, and what a layer would show."""

    def __init__(self, sky: Sky, pixels: Pixels, framing: Framing, fitted: Clear,
                 skies: ClearSkies, preparer: Preparer, cancel: Cancel, unknown: bool,
                 hidden: Mask | None = None) -> None:
        self.sky, self.unknown, self.skies = sky, unknown, skies
        self.preparer, self.cancel = preparer, cancel
        self.hidden, self.stage = hidden, Stage(framing, pixels.shape, hidden)
        self.small = made_small(pixels, WIDTH)
        self.target, self.wanted, cloud = self.stage.look(pixels, skies, fitted)
        self.placed = shares_at(cloud, PLACES)
        # As the table of genera knows pictures.
        self.plain = self.wanted if fitted.grade == UNGRADED else self.stage.look(
            pixels, skies, fitted, plain=True).features
        if unknown:
            self.target = 1.0

    def light(self, sky: Sky, heading_deg: float, width: int) -> NDArray[np.float32]:
        """Light of a frame of a sky, toward a heading."""
        self.cancel.check()
        prepared = self.preparer.scene(sky, SKETCH, self.cancel)
        size = (width, round(width * self.stage.size[1] / self.stage.size[0]))
        camera = sky.camera.model_copy(update={"heading_deg": heading_deg % 360.0})
        return render_frame(prepared, picture_lens(camera, size[0] / size[1]), size, SEARCH,
                            self.preparer.workers, self.cancel, sun_disc=False)

    def developed(self, sky: Sky, under: Clear, heading_deg: float, width: int) -> Pixels:
        """That frame as the photograph would show it."""
        light = self.light(sky, heading_deg, width)
        return as_pixels(developed(light, under.ev, under.kelvins, under.grade))

    def with_layer(self, under: Clear, genus: str, cover: float, seed: int = 1) -> Sky:
        data = sky_to_data(lit(self.sky, under))
        layer: dict[str, Any] = {"id": "suggested", "genus": genus, "seed": seed,
                                 "cover_oktas": round(cover, 2)}
        # The usual clearings of a genus would say something that was not seen.
        layer["clearings"] = {**GENUS_DEFAULTS[genus].get("clearings", {}), "share": 0.0}
        data["layers"] = [layer]
        return sky_from_data(data)

    def seen(self, genus: str, cover: float, under: Clear) -> Seen:
        """Frames of a layer that look at the sun about as the photograph does: turned a little to
        both sides, and the same mirrored at the sun's bearing. Their air is alike, their clouds
        are others. The clear sky is fitted to each anew, from the true one."""
        sky = self.with_layer(under, genus, cover)
        heading, sun = sky.camera.heading_deg, sky.sun.azimuth_deg
        shares, off, looks = [], [], []
        for turn, mirrored in product(TURNS, (False, True)):
            towards = 2.0 * sun - heading - turn if mirrored else heading + turn
            shown = self.developed(sky, under, towards, PHOTO_WIDTH)
            point = under.point.copy()
            point[2] += math.radians(heading - towards)
            fitted = replace(under, point=point)
            if not self.unknown:
                fitted = descend(Match(shown, self.stage.framing, self.hidden), self.skies, point,
                                 STRICT, FIT_STEPS)
                if np.any(np.abs(fitted.point - point)[:2] > LOST):  # the photograph's was not
                    fitted = replace(under, point=point)
            look = self.stage.look(shown, self.skies, fitted)
            by = fitted.point - point
            by[SHADE] = 0.0  # that of the frame is its own
            by[2] *= -1.0 if mirrored else 1.0
            shares.append(look.share)
            off.append(by)
            looks.append(look.features)
        return Seen(float(np.mean(shares)), np.mean(off, axis=0), np.array(looks))

    def answer(self, genus: str, fitted: Clear, cover: float | None = None) -> Answer:
        """A genus with the cover at which it shows as much cloud as the photograph has, over a
        clear sky that is moved by what such clouds do: they lead the fit astray by so much, and
        hide so much of it, which is taken back (indirect inference; Gourieroux, Monfort and
        Renault 1993, J. Appl. Econometrics 8)."""
        under, looks, offs = fitted, np.empty((0, 0)), []
        search = CoverSearch(self.target, cover or min(max(6.0 * self.target, 0.2), 7.5))
        for _ in range(1 if self.unknown else CLOSER_STEPS):
            seen = self.seen(genus, search.cover, under)
            looks = seen.looks
            offs.append(seen.off)
            if not self.unknown:
                under = moved(fitted, -np.mean(offs, axis=0), self.skies)
            if search.met(seen.share) and len(offs) > 1:
                break
            if len(offs) == 1:  # seen under another sky than those to come
                search.low, search.high = 0.0, 8.0
        return Answer(under, search.cover, looks)

    def whole(self, sky: Sky, under: Clear) -> float:
        """How unlike the photograph a sky's frame is in its range of colours, band by band."""
        shown = self.developed(sky, under, sky.camera.heading_deg, WIDTH)
        found = []
        for rows in np.array_split(np.arange(self.stage.rows), 3):
            seen = ~self.stage.hidden[rows]
            if seen.any():
                a, b = (np.quantile(part[rows][seen] / 255.0, QUANTILES, axis=0)
                        for part in (shown, self.small))
                found.append(np.mean((a - b) ** 2))
        return float(np.sqrt(np.mean(found)))

    def dealt(self, answers: list[Answer], genus: str, until: float) -> list[Sky]:
        """Of each answer, of as many deals as there is time for, the one whose frame has its
        cloud about where the photograph has it."""
        if self.unknown or self.target > UNBROKEN_SHARE:
            return [self.with_layer(a.found, genus, a.cover) for a in answers]
        nearest: list[tuple[float, Sky]] = []
        for seed in range(1, DEALS + 1):
            if nearest and time.perf_counter() > until:
                break
            rated = []
            for answer in answers:
                sky = self.with_layer(answer.found, genus, answer.cover, seed)
                shown = self.developed(sky, answer.found, sky.camera.heading_deg, WIDTH)
                cloud = self.stage.cloud(shown, self.skies, answer.found)
                apart = shares_at(cloud, PLACES) - self.placed
                # Blocks each count, and so does how much cloud there is in all.
                rated.append((float(np.mean(apart**2) + np.mean(apart) ** 2), sky))
            nearest = [min(pair, key=lambda r: r[0])
                       for pair in zip(nearest or rated, rated, strict=True)]
        return [sky for _, sky in nearest]

    def metered(self, sky: Sky) -> float:
        """Exposure a meter would choose for a sky."""
        prepared = self.preparer.scene(sky, SKETCH, self.cancel)
        return meter_sky(sky.camera, prepared, self.preparer.workers, self.cancel).ev

    def unlike(self, answers: dict[str, Answer]) -> dict[str, float]:
        """How unlike the photograph the frames of each answer look, every feature counted in its
        spread between frames of one sky."""
        every = [a.looks for a in answers.values()]
        spread = np.sqrt(np.mean([x.var(axis=0, ddof=1) for x in every], axis=0)) + LEAST_SPREAD
        return {genus: float(np.minimum(((a.looks.mean(axis=0) - self.wanted) / spread) ** 2,
                                        MOST_APART).mean()) for genus, a in answers.items()}


class CoverSearch:
    """Cover in oktas at which the share of cloud in frames is as wanted."""

    def __init__(self, target: float, cover: float) -> None:
        # Nearly full frames differ by more than their covers tell: the least cover that may do.
        self.wanted = target - FULL_SLACK * min(max(target / 0.1 - 8.0, 0.0), 1.0)
        self.full = target > UNBROKEN_SHARE
        self.cover, self.low, self.high = 8.0 if self.full else cover, 0.0, 8.0

    def met(self, share: float) -> bool:
        """Take in what a cover shows; whether that will do. `cover` is then the next to try."""
        if self.full or abs(share - self.wanted) < 0.01 + 0.06 * self.wanted:
            return True
        if share < self.wanted:
            self.low = max(self.low, self.cover)
        else:
            self.high = min(self.high, self.cover)
        # Shares grow with cover roughly as 1 - (1 - c)^n: step by that, kept in between.
        power = math.log(max(1.0 - min(share, 0.98), 0.01)) / math.log(
            max(1.0 - min(self.cover / 8.0, 0.98), 0.01))
        aim = 8.0 * (1.0 - (1.0 - min(self.wanted, 0.98)) ** (1.0 / max(power, 0.2)))
        self.cover = aim if self.low < aim < self.high else 0.5 * (self.low + self.high)
        return False
