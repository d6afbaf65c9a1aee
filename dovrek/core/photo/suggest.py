"""Suggest a sky from a photograph: a search over real renders at low resolution.

First the clear sky that most coloured pixels agree with (`clear_fit`): clouds are outliers. Where
it is found only under a contrast and saturation of the photograph's own (`grade`), it is taken to
have been graded so, and what is rendered for it is graded so; the film that comes nearest is
proposed. Then the cloud (`cloud_answers`): what genus it looks like, and, for the likely ones,
frames of such a sky rendered and measured as the photograph was. They tell which cover shows as
much cloud as the photograph has, by how much such clouds lead the fit of the clear sky astray, and
which deal has its clouds about where the photograph has them.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.clear_fit import (
    Clear,
    Framing,
    Match,
    agreeing,
    fit_clear,
    fit_graded,
    graded_from,
    point_of,
)
from dovrek.core.photo.clear_skies import HAZES, ClearSkies, skies_key
from dovrek.core.photo.cloud_answers import Answer, Clouds, lit
from dovrek.core.photo.cloud_look import CLOUDY, WIDTH, Stage, genus_looks
from dovrek.core.photo.foreground import standing
from dovrek.core.photo.grade import UNGRADED, film_for
from dovrek.core.photo.likeness import Pixels, linear
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data, sky_to_data

CLEAR_LEAST = 0.03  # share of clear pixels below which nothing is known of sun and haze
BURIED = 0.45  # error of the clear sky above which little of it is seen
# Suns that only their clouds can tell apart: error over the least, share of the most that agrees.
RIVALS, RIVALS_AGREE, RIVALS_MOST = 1.25, 0.85, 3
# Pictures are exposed about as a meter says (common practice): stops it is believed within.
METERED = 0.45
GRADED = 0.02  # by which a clear sky must agree better for a photograph to be taken as graded
HINT = 0.004  # by which it must do so at once for a search to be worth while
PALEST, MOST_VIVID = 0.75, 1.98  # saturations that are believed
# After which no further sun, no further genus, no further deal is tried.
PATIENCE_S, GENERA_S, DEALS_S = 18.0, 20.0, 23.0
TRUST = 0.5  # in the odds against the clear sky over the whole frame's difference, as logarithms
LIKELY = 3  # genera tried
UNLIKELY = 5.0  # log of the chance against the likeliest, beyond which a genus is not tried
SEEN_WEIGHT = 1.0  # of what a genus's frames look like, against the log of its chance
LEAST_SKY = 6 * WIDTH  # pixels
NO_LAND = 0.995  # horizon line, beyond which no land is marked
LEAST_CLOUD = 0.02  # share of the sky below which there is none
UNBROKEN = ("stratocumulus", "stratus", "altostratus")
GENERA = ("cumulus", "stratocumulus", "stratus", "altocumulus", "altostratus", "cirrus",
          "cirrocumulus", "cirrostratus")
Progress = Callable[[float, str], None]


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


def suggest(sky: Sky, pixels: Pixels, framing: Framing, preparer: Preparer,
            cancel: Cancel, progress: Progress = lambda share, what: None,
            known_skies: StageCache | None = None, patience: float = 1.0) -> Proposal:
    """A sky like a photograph, over the site and camera of `sky` (its camera framed as the
    photograph is). `known_skies` keeps the clear skies of a site for its next photograph.
    `patience` lengthens the times after which nothing further is tried (infinite: all is, however
    slow the machine). Raises Cancelled, TooLittleSky."""
    begun = time.perf_counter()
    hidden = standing(pixels, framing.horizon, framing.skyline)
    stage = Stage(framing, pixels.shape, hidden)
    if stage.above.sum() < LEAST_SKY:
        raise TooLittleSky("too little sky lies above the horizon line, free of what stands before "
                         "it; set the line lower, or choose a photograph with more sky")
    cannot = ["how bright the scene was: a photograph without its exposure shows only what "
              "its film made of it",
              "place and date: the sun is set free, at a height and bearing"]
    if framing.horizon > NO_LAND:
        cannot.append("whether land is in the frame: its horizon line stands at the lower edge, "
                      "and all above it was taken for sky")
    if stage.hidden.any():
        cannot.append("the sky behind what stands before it: "
                      f"{100.0 * stage.hidden.mean():.0f} % of it were left out")
    known_before, place = known_skies or StageCache(), ("clear skies", skies_key(sky))
    there, skies = known_before.find(place)
    if not there:
        skies = ClearSkies(sky, preparer, cancel,
                           lambda share: progress(0.25 * share, "clear skies"))
        known_before.put(place, skies)
    match = Match(pixels, framing, hidden)
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
    done = lit(sky, found)
    clouds = Clouds(sky, pixels, framing, found, skies, preparer, cancel, unknown, hidden)
    rivals = [k for k in known if k.error < RIVALS * found.error
              and 1.0 - k.error >= RIVALS_AGREE * (1.0 - found.error)][:RIVALS_MOST]
    if clouds.target > LEAST_CLOUD:
        genus, first = _named(clouds, found, begun + patience * GENERA_S,
                              lambda share: progress(0.45 + 0.4 * share, "clouds"))
        tied = [first]
        for number, rival in enumerate(rivals[1:]):
            if time.perf_counter() - begun > patience * PATIENCE_S:
                break
            tied.append(clouds.answer(genus, rival, first.cover))
            progress(0.85 + 0.13 * (number + 1) / len(rivals), "the sun by its clouds")
        (found, cover, _), done = _decided(tied, rivals[: len(tied)], clouds,
                                           clouds.dealt(tied, genus, begun + patience * DEALS_S))
        if len(tied) == len(rivals):
            decided = "; its clouds decided"
    heights = [k.elevation_deg for k in rivals]
    if max(heights) - min(heights) > 20.0:
        cannot.append(f"the sun's height closely: {min(heights):.0f}° to {max(heights):.0f}° fit "
                      f"the clear sky about as well{decided}")
    film, error = _settle_film(clouds, done, found)
    if found.grade != UNGRADED:
        cannot.append("how much of its contrast and saturation is its own: for clear air to have "
                      "its colours, the film was given "
                      f"{film['contrast']:.2f} and {film['saturation']:.2f}")
    data = sky_to_data(done)
    data["film"] |= film
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
    better so than as the film has them, or as the film has them none is seen; else those that are
    known. Much less colour is never believed: cloud without a gap would leave nothing else."""
    if plain[0].error < GRADED:
        return plain
    known = graded_from(match, skies, plain[0])
    if plain[0].error - known.error < HINT:
        return plain
    near = fit_graded(match, skies, known, cancel, progress)
    seen = _clear_share(match, skies, plain[0]) > CLEAR_LEAST
    better = plain[0].error - near[0].error > (GRADED if seen else HINT)
    return near if better and PALEST < near[0].grade[1] < MOST_VIVID else plain


def _named(clouds: Clouds, fitted: Clear, until: float, progress: Callable[[float], None]
           ) -> tuple[str, Answer]:
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


def _decided(tied: list[Answer], rivals: list[Clear], clouds: Clouds, dealt: list[Sky]
             ) -> tuple[Answer, Sky]:
    """Of suns that fit the clear sky about as well, the one whose whole frame does, its clouds
    dealt to stand as the photograph's."""
    rated = []
    for number, (answer, rival, sky) in enumerate(zip(tied, rivals, dealt, strict=True)):
        stops = answer.found.ev - clouds.metered(sky)
        odds = rival.error / max(1.0 - rival.error, 1e-3)
        rated.append((math.log(clouds.whole(sky, answer.found)) + TRUST * math.log(odds)
                      + 0.5 * (stops / METERED) ** 2, number))
    best = min(rated)[1]
    return tied[best], dealt[best]


def _settle_film(clouds: Clouds, sky: Sky, found: Clear) -> tuple[dict[str, Any], float]:
    """The film on which the whole sky comes out nearest to the photograph's look, exposed as
    bright as the photograph is, and the rms difference that is left."""
    rows, seen = clouds.stage.rows, ~clouds.stage.hidden
    wanted = clouds.small[:rows]
    light = clouds.light(sky, sky.camera.heading_deg, WIDTH)[:rows]
    ev, contrast, saturation = film_for(light, found.ev, found.kelvins, found.grade)
    low, high = ev - 4.0, ev + 4.0
    bright = linear(wanted[seen]).mean(axis=0) @ LUMINANCE_RGB

    def shown() -> Pixels:
        return np.asarray(develop(light, ev, found.kelvins, contrast, saturation), dtype=np.uint8)

    for _ in range(16):
        ev = 0.5 * (low + high)
        if linear(shown()[seen]).mean(axis=0) @ LUMINANCE_RGB > bright:
            low = ev
        else:
            high = ev
    coarse = [np.asarray(Image.fromarray(p).resize((16, 9), Image.Resampling.BOX), dtype=float)
              for p in (shown(), np.where(seen[..., None], wanted, shown()))]
    film = {"curve": "plain", "toe_stops": None, "shoulder_stops": None,
            "exposure_ev": round(ev, 1), "white_balance_k": round(found.kelvins, -1),
            "contrast": round(contrast, 2), "saturation": round(saturation, 2)}
    return film, float(np.sqrt(np.mean((coarse[0] - coarse[1]) ** 2)) / 255.0)
