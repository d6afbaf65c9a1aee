"""Suggest a sky from a photograph: a search over real renders at low resolution.

First the clear sky that most coloured pixels agree with (`clear_fit`): clouds are outliers. Where
it is found only under another contrast and saturation than the film's own, the photograph is taken
to be graded so, and what is rendered for it is developed so. Then
the cloud: what genus it looks like (`cloud_look`), and, for the likely ones, frames of such a sky
rendered and measured as the photograph was. They tell which cover shows as much cloud as the
photograph has, and by how much such clouds lead the fit of the clear sky astray.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from itertools import product
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.clear_fit import (
    HAZES,
    PHOTO_WIDTH,
    SHADE,
    STRICT,
    UNGRADED,
    Clear,
    ClearSkies,
    Framing,
    Match,
    agreeing,
    descend,
    fit_clear,
    fit_graded,
    free_sun,
    graded_from,
    made_small,
    moved,
    point_of,
    skies_key,
)
from dovrek.core.cloud_look import CLOUDY, WIDTH, Stage, genus_looks
from dovrek.core.film import develop
from dovrek.core.lens import picture_lens
from dovrek.core.likeness import Pixels, linear
from dovrek.core.prepare import SKETCH, Preparer
from dovrek.core.render import Quality, meter_sky, render_frame
from dovrek.core.spectrum import LUMINANCE_RGB
from dovrek.core.stages import Cancel, StageCache
from dovrek.sky.document import Sky
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.reading import sky_from_data, sky_to_data

CLEAR_LEAST = 0.03  # share of clear pixels below which nothing is known of sun and haze
BURIED = 0.45  # error of the clear sky above which little of it is seen
# Suns that only their clouds can tell apart: error over the least, share of the most that agrees.
RIVALS, RIVALS_AGREE, RIVALS_MOST = 1.25, 0.85, 3
# Pictures are exposed about as a meter says (common practice): stops it is believed within.
METERED = 0.45
GRADED = 0.013  # by which a clear sky must agree better for a photograph to be taken as graded
HINT = 0.004  # by which it must do so at once for a search to be worth while
PALEST, MOST_VIVID = 0.75, 1.98  # saturations that are believed
PATIENCE_S, GENERA_S = 22.0, 25.0  # after which no further sun, no further genus is tried
TRUST = 0.5  # in the odds against the clear sky over the whole frame's difference, as logarithms
LIKELY = 3  # genera tried
UNLIKELY = 5.0  # log of the chance against the likeliest, beyond which a genus is not tried
SEEN_WEIGHT = 1.0  # of what a genus's frames look like, against the log of its chance
LEAST_SPREAD, MOST_APART = 0.01, 9.0  # of one feature: none decides alone
CLOSER_STEPS, FIT_STEPS = 4, 5
LOST = (0.6, 1.1)  # changes of sun height and haze, as points have them, that clouds do not make
LEAST_SKY = 6 * WIDTH  # pixels
NO_LAND = 0.995  # horizon line, beyond which no land is marked
LEAST_CLOUD = 0.02  # share of the sky below which there is none
UNBROKEN = ("stratocumulus", "stratus", "altostratus")
GENERA = ("cumulus", "stratocumulus", "stratus", "altocumulus", "altostratus", "cirrus",
          "cirrocumulus", "cirrostratus")
UNBROKEN_SHARE = 0.9985  # of a frame under cloud, beyond which no gap is taken to be there
FULL_SLACK = 0.05  # by which frames of one sky differ in their share of cloud, about
TURNS = (-15.0, 15.0)  # degrees, of frames that see other clouds in the same air
SEARCH = Quality("search", SKETCH, 1, 1.7, 1.0, 0.3, 0.2)
QUANTILES = np.linspace(0.05, 0.95, 10)
Progress = Callable[[float, str], None]
Array = NDArray[np.float64]


class TooLittleSky(ValueError):
    """Hardly any of a photograph lies above its horizon line."""


@dataclass
class Proposal:
    """A sky proposed, how near it came, and what the photograph cannot tell."""

    sky: Sky
    error: float  # rms difference of developed pixels, 0 … 1
    sun_elevation_deg: float
    haze: float
    cover_oktas: float
    genus: str
    cannot_know: list[str] = field(default_factory=list)


class _Seen(NamedTuple):
    """What frames of a cloudy sky show when they are looked at as photographs are."""

    share: float  # of the sky under cloud
    off: Array  # by which the fit of the clear sky is led astray, a difference of points
    looks: Array  # (frames, features)


class _Answer(NamedTuple):
    """A genus over a clear sky, as near as it can be brought."""

    found: Clear
    cover: float
    looks: Array


class _Clouds:
    """Cloud of a photograph over the clear sky fitted to it, and what a layer would show."""

    def __init__(self, sky: Sky, pixels: Pixels, framing: Framing, fitted: Clear,
                 skies: ClearSkies, preparer: Preparer, cancel: Cancel, unknown: bool) -> None:
        self.sky, self.unknown, self.skies = sky, unknown, skies
        self.preparer, self.cancel = preparer, cancel
        self.stage = Stage(framing, pixels.shape)
        self.small = made_small(pixels, WIDTH)
        self.target, self.wanted = self.stage.look(pixels, skies, fitted)
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
        """That frame as the film shows it."""
        return _shown(self.light(sky, heading_deg, width), under.ev, under)

    def with_layer(self, under: Clear, genus: str, cover: float) -> Sky:
        data = sky_to_data(_lit(self.sky, under))
        layer: dict[str, Any] = {"id": "suggested", "genus": genus,
                                 "cover_oktas": round(cover, 2)}
        # The usual clearings of a genus would say something that was not seen.
        layer["clearings"] = {**GENUS_DEFAULTS[genus].get("clearings", {}), "share": 0.0}
        data["layers"] = [layer]
        return sky_from_data(data)

    def seen(self, genus: str, cover: float, under: Clear) -> _Seen:
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
                fitted = descend(Match(shown, self.stage.framing), self.skies, point, STRICT,
                                 FIT_STEPS)
                if np.any(np.abs(fitted.point - point)[:2] > LOST):  # the photograph's was not
                    fitted = replace(under, point=point)
            look = self.stage.look(shown, self.skies, fitted)
            by = fitted.point - point
            by[SHADE] = 0.0  # that of the frame is its own
            by[2] *= -1.0 if mirrored else 1.0
            shares.append(look.share)
            off.append(by)
            looks.append(look.features)
        return _Seen(float(np.mean(shares)), np.mean(off, axis=0), np.array(looks))

    def answer(self, genus: str, fitted: Clear, cover: float | None = None) -> _Answer:
        """A genus with the cover at which it shows as much cloud as the photograph has, over a
        clear sky that is moved by what such clouds do: they lead the fit astray by so much, and
        hide so much of it, which is taken back (indirect inference; Gourieroux, Monfort and
        Renault 1993, J. Appl. Econometrics 8)."""
        under, looks, offs = fitted, np.empty((0, 0)), []
        search = _CoverSearch(self.target, cover or min(max(6.0 * self.target, 0.2), 7.5))
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
        return _Answer(under, search.cover, looks)

    def whole(self, sky: Sky, under: Clear) -> float:
        """How unlike the photograph a sky's frame is in its range of colours, band by band."""
        shown = self.developed(sky, under, sky.camera.heading_deg, WIDTH)
        found = []
        for ours, theirs in zip(np.array_split(shown[: self.stage.rows], 3),
                                np.array_split(self.small[: self.stage.rows], 3), strict=True):
            a, b = (np.quantile(part.reshape(-1, 3) / 255.0, QUANTILES, axis=0)
                    for part in (ours, theirs))
            found.append(np.mean((a - b) ** 2))
        return float(np.sqrt(np.mean(found)))

    def metered(self, sky: Sky) -> float:
        """Exposure a meter would choose for a sky."""
        prepared = self.preparer.scene(sky, SKETCH, self.cancel)
        return meter_sky(sky, prepared, self.preparer.workers, self.cancel).ev

    def unlike(self, answers: dict[str, _Answer]) -> dict[str, float]:
        """How unlike the photograph the frames of each answer look, every feature counted in its
        spread between frames of one sky."""
        every = [a.looks for a in answers.values()]
        spread = np.sqrt(np.mean([x.var(axis=0, ddof=1) for x in every], axis=0)) + LEAST_SPREAD
        return {genus: float(np.minimum(((a.looks.mean(axis=0) - self.wanted) / spread) ** 2,
                                        MOST_APART).mean()) for genus, a in answers.items()}


class _CoverSearch:
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


def suggest(sky: Sky, pixels: Pixels, framing: Framing, preparer: Preparer,
            cancel: Cancel, progress: Progress = lambda share, what: None,
            known_skies: StageCache | None = None) -> Proposal:
    """A sky like a photograph, over the site and camera of `sky` (its camera framed as the
    photograph is). `known_skies` keeps the clear skies of a site for its next photograph. Raises
    Cancelled, TooLittleSky."""
    begun = time.perf_counter()
    if Stage(framing, pixels.shape).above.sum() < LEAST_SKY:
        raise TooLittleSky("too little sky lies above the horizon line; set the line lower, or "
                         "choose a photograph with more sky")
    cannot = ["how bright the scene was: a photograph without its exposure shows only what "
              "its film made of it",
              "place and date: the sun is set free, at a height and bearing"]
    if framing.horizon > NO_LAND:
        cannot.append("whether land is in the frame: its horizon line stands at the lower edge, "
                      "and all above it was taken for sky")
    skies = (known_skies or StageCache()).get("clear skies", skies_key(sky), lambda: ClearSkies(
        sky, preparer, cancel, lambda share: progress(0.25 * share, "clear skies")), keep=1)
    match = Match(pixels, framing)
    plain = fit_clear(match, skies, cancel,
                      lambda share: progress(0.25 + 0.1 * share, "sun and haze"))
    known = _graded(match, skies, plain, cancel,
                    lambda share: progress(0.35 + 0.1 * share, "contrast and saturation"))
    unknown = _clear_share(match, skies, known[0]) < CLEAR_LEAST
    if unknown and known is not plain:  # a look of its own must not cost the sky that is seen
        known, unknown = plain, _clear_share(match, skies, plain[0]) < CLEAR_LEAST
    if unknown:
        haze = min(max(sky.air.haze, HAZES[0]), HAZES[-1])
        known = [Clear(1.0, point_of(40.0, haze, 120.0, 14.0, 5600.0, skies), 5600.0)]
        cannot += ["the sun's height and the haze: no clear sky is seen",
                   "genus and exposure closely, under an unbroken sheet"]
    elif known[0].error > BURIED:
        cannot.append("the sun's height and the haze closely: little clear sky is seen between "
                      "the clouds")
    found, genus, cover, decided = known[0], "", 0.0, ""
    clouds = _Clouds(sky, pixels, framing, found, skies, preparer, cancel, unknown)
    rivals = [k for k in known if k.error < RIVALS * found.error
              and 1.0 - k.error >= RIVALS_AGREE * (1.0 - found.error)][:RIVALS_MOST]
    if clouds.target > LEAST_CLOUD:
        genus, first = _named(clouds, found, begun + GENERA_S,
                              lambda share: progress(0.45 + 0.4 * share, "clouds"))
        tied = [first]
        for number, rival in enumerate(rivals[1:]):
            if time.perf_counter() - begun > PATIENCE_S:
                break
            tied.append(clouds.answer(genus, rival, first.cover))
            progress(0.85 + 0.13 * (number + 1) / len(rivals), "the sun by its clouds")
        found, cover, _ = _decided(clouds, genus, tied, rivals[: len(tied)])
        if len(tied) == len(rivals):
            decided = "; its clouds decided"
    lit = clouds.with_layer(found, genus, cover) if genus else _lit(sky, found)
    heights = [k.elevation_deg for k in rivals]
    if max(heights) - min(heights) > 20.0:
        cannot.append(f"the sun's height closely: {min(heights):.0f}° to {max(heights):.0f}° fit "
                      f"the clear sky about as well{decided}")
    contrast, saturation = found.grade
    if found.grade != UNGRADED:
        cannot.append("how much of its contrast and saturation is its own: for clear air to have "
                      f"its colours, {contrast:.2f} and {saturation:.2f} were taken for it")
    ev, error = _settle_exposure(clouds, lit, found)
    data = sky_to_data(lit)
    data["film"] |= {"exposure_ev": round(ev, 1), "white_balance_k": round(found.kelvins, -1),
                     "contrast": round(contrast, 2), "saturation": round(saturation, 2)}
    data["name"] = sky.name
    progress(1.0, "done")
    return Proposal(sky_from_data(data), error, found.elevation_deg, round(found.haze, 3), cover,
                    genus, cannot)


def _clear_share(match: Match, skies: ClearSkies, found: Clear) -> float:
    """Share of coloured pixels that a clear sky explains."""
    return float((agreeing(match, skies, found, CLOUDY) & (match.chroma > 0.06)).mean())


def _graded(match: Match, skies: ClearSkies, plain: list[Clear], cancel: Cancel,
            progress: Callable[[float], None]) -> list[Clear]:
    """Clear skies under a photograph's own contrast and saturation, where they agree clearly
    better so than as the film has them; else those that are known. Much less colour is never
    believed: cloud without a gap would leave nothing else."""
    if plain[0].error < GRADED:
        return plain
    known = graded_from(match, skies, plain[0])
    if plain[0].error - known.error < HINT:
        return plain
    near = fit_graded(match, skies, known, cancel, progress)
    better = plain[0].error - near[0].error > GRADED
    return near if better and PALEST < near[0].grade[1] < MOST_VIVID else plain


def _named(clouds: _Clouds, fitted: Clear, until: float, progress: Callable[[float], None]
           ) -> tuple[str, _Answer]:
    """The genus, and how near it comes: those the table finds likely are tried, the likeliest at
    any time, further ones `until` the clock says so."""
    if clouds.unknown:  # no gap is seen: first those that leave none
        chances = dict.fromkeys(sorted(GENERA, key=lambda name: name not in UNBROKEN), 0.0)
    else:
        chances = genus_looks().chances(clouds.plain)
        best = sorted(chances, key=lambda name: -chances[name])[:LIKELY]
        chances = {g: chances[g] for g in best if chances[g] > chances[best[0]] - UNLIKELY}
    answers = {}
    for number, genus in enumerate(chances):
        if number and time.perf_counter() > until:
            break
        answers[genus] = clouds.answer(genus, fitted)
        progress((number + 1) / len(chances))
    unlike = clouds.unlike(answers)
    genus = max(answers, key=lambda name: chances[name] - SEEN_WEIGHT * unlike[name])
    return genus, answers[genus]


def _decided(clouds: _Clouds, genus: str, tied: list[_Answer], rivals: list[Clear]) -> _Answer:
    """Of suns that fit the clear sky about as well, the one whose whole frame does."""
    rated = []
    for number, (answer, rival) in enumerate(zip(tied, rivals, strict=True)):
        layered = clouds.with_layer(answer.found, genus, answer.cover)
        stops = answer.found.ev - clouds.metered(layered)
        odds = rival.error / max(1.0 - rival.error, 1e-3)
        rated.append((math.log(clouds.whole(layered, answer.found)) + TRUST * math.log(odds)
                      + 0.5 * (stops / METERED) ** 2, number))
    return tied[min(rated)[1]]


def _lit(sky: Sky, found: Clear) -> Sky:
    """The sky without cloud under the sun and haze that were found."""
    return free_sun(sky.model_copy(update={"layers": []}), found.elevation_deg,
                     sky.camera.heading_deg + found.bearing_deg, found.haze)


def _shown(light: NDArray[np.float32], ev: float, under: Clear) -> Pixels:
    """Light on the film of a clear sky's fit, at an exposure."""
    return np.asarray(develop(light, ev, under.kelvins, *under.grade), dtype=np.uint8)


def _settle_exposure(clouds: _Clouds, sky: Sky, found: Clear) -> tuple[float, float]:
    """Exposure at which the whole sky is developed as bright as the photograph, and the rms
    difference that is left."""
    rows = clouds.stage.rows
    wanted = clouds.small[:rows]
    light = clouds.light(sky, sky.camera.heading_deg, WIDTH)[:rows]
    low, high = found.ev - 4.0, found.ev + 4.0
    for _ in range(16):
        ev = 0.5 * (low + high)
        shown = linear(_shown(light, ev, found)) @ LUMINANCE_RGB
        if shown.mean() > (linear(wanted) @ LUMINANCE_RGB).mean():
            low = ev
        else:
            high = ev
    coarse = [np.asarray(Image.fromarray(p).resize((16, 9), Image.Resampling.BOX), dtype=float)
              for p in (_shown(light, ev, found), wanted)]
    return ev, float(np.sqrt(np.mean((coarse[0] - coarse[1]) ** 2)) / 255.0)
