"""Panels of the composer: one template each, what it shows, and what it needs, which is worked out
for those asked for alone. To add one, write its template and name it in PANELS.

What a panel shows is said in groups of the document (`layers`, `sun`, …) and in these words:
`steps` (undo and redo), `selected`, `look` (the view and what is laid over it), `picture` (what is
known once a picture is finished), `painted` (marks that follow a picture under a moving hand).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from dovrek.core.air.sun_place import moon_place, sun_place
from dovrek.sky.advisories import Seen, advisories
from dovrek.sky.document import Sky
from dovrek.sky.genera import HEAPS
from dovrek.sky.layer import GENUS_DEFAULTS, Layer
from dovrek.sky.parameter import parameter_at
from dovrek.sky.seen import depth_of
from dovrek.store import skies as store
from dovrek.store.versions import reference_names
from dovrek.web.composer import answer, heroes, section
from dovrek.web.composer.clip import clip_of
from dovrek.web.composer.overlay import UNIT, overlay_of
from dovrek.web.composer.ribbon import ribbon_of
from dovrek.web.composer.schedule import FOLDED, sheet_of
from dovrek.web.composer.sheets import SHEETS
from dovrek.web.composer.written import writer
from dovrek.web.live.looks import Look
from dovrek.web.shared.answers import live, units
from dovrek.web.shared.photographs import reference_cover
from dovrek.web.shared.things import HEAD_NAMES

LEVEL = {"land": "level ground", "water": "open water", "continents": "continents in a sea",
         "map": "land and water by a map"}


def facts_of(sky: Sky) -> dict[str, str]:
    """Short lines under the schedule's titles."""
    sun = sun_place(sky)
    height, bearing = math.degrees(sun.elevation), math.degrees(sun.azimuth) % 360
    field = f"{math.degrees(sky.camera.fov_h_rad):.0f}° × {math.degrees(sky.camera.fov_v_rad):.0f}°"
    return {"sun_short": f"{height:.1f}° · {bearing:.0f}°",
            "sun": f"{height:.1f}° high · bearing {bearing:.0f}°", 
            "air": fog_fact(sky) if sky.fog.present else "the clear atmosphere",
            "moon": moon_fact(sky),
            "site": f"{abs(sky.site.latitude):.1f}° {'N' if sky.site.latitude >= 0 else 'S'} "
                    f"{abs(sky.site.longitude):.1f}° {'E' if sky.site.longitude >= 0 else 'W'}",
            "place": (f"{sky.relief.form}, {sky.relief.highest_m:.0f} m high"
                      if sky.relief.stands else LEVEL[sky.ground.kind]),
            "camera": f"sees {field}", "film": "from scene light to a picture"}


def fog_fact(sky: Sky) -> str:
    """How far one sees in the fog, and how deep it lies."""
    return f"fog: {sky.fog.sight_m:.0f} m of sight, {max(depth_of(sky), 0.0):.0f} m deep"


def moon_fact(sky: Sky) -> str:
    """Where the moon stands and how much of it is lit."""
    place, lit, _ = moon_place(sky)
    height = math.degrees(place.elevation)
    stands = f"{height:.0f}° high" if height > 0 else "below the horizon"
    return f"{stands} · {100 * lit:.0f} % lit"


@dataclass
class Shown:
    """A sky as one window has it open; what several panels show is worked out once."""

    slug: str
    sky: Sky
    revision: int
    selected: str
    look: Look

    @cached_property
    def told(self) -> Sky:
        """The sky at the second of its clip that the window shows."""
        return self.look.told(self.sky)

    @cached_property
    def facts(self) -> dict[str, str]:
        return facts_of(self.told)

    @cached_property
    def seen(self) -> Seen:
        """What the picture tells, the photograph beside it included once it is finished."""
        seen = live().seen(self.slug, self.look, self.revision)
        if seen.held_ev is None:
            return seen
        reference = reference_cover(self.slug)
        if reference is None:
            return seen
        return replace(seen, reference_cover=reference.oktas, cover=live().cover_at(
            self.slug, self.look, self.revision, reference.ratio))

    @cached_property
    def advisories(self) -> Any:
        return advisories(self.sky, math.degrees(sun_place(self.sky).elevation), seen=self.seen)


def _section(shown: Shown) -> dict[str, Any]:
    return {"bands": section.bands(shown.told), "lids": shown.seen.lids,
            "marks": [(section.y_of(k * 1e3), k) for k in section.MARKS_KM],
            "land": section.land_path(shown.told), "fog": section.fog_path(shown.told),
            "eye": section.eye_mark(shown.told),
            "heroes_cut": section.heroes_path(shown.told),
            "etages": section.etage_marks(), "geometry": section, "scale": section.scale_table(),
            "genera": list(GENUS_DEFAULTS), "base_limits": parameter_at(Layer, "base_m"),
            "thickness_limits": parameter_at(Layer, "thickness_m")}


def _schedule(shown: Shown) -> dict[str, Any]:
    return {"sheet": sheet_of(shown.told, shown.selected, shown.facts, units()),
            "heaps": HEAPS, "things": HEAD_NAMES, "folded": FOLDED, "facts": shown.facts,
            "genera": list(GENUS_DEFAULTS), "advisories": shown.advisories,
            **_answer(shown), "written": writer(
                shown.sky.motion.keys,
                reference_names(shown.slug) if shown.selected == "site" else [])}


def _title(shown: Shown) -> dict[str, Any]:
    back, forward = store.steps(shown.slug)
    return {"facts": shown.facts, "back": back, "forward": forward}


def _ribbon(shown: Shown) -> dict[str, Any]:
    return {"facts": shown.facts, "ribbon": ribbon_of(shown.sky)}


def _overlay(shown: Shown) -> dict[str, Any]:
    overlay = overlay_of(shown.told, shown.look)
    return {"overlay": overlay, "told": shown.told,
            "hero_marks": heroes.marks(shown.told, shown.look, overlay.height, UNIT)}


def _clip(shown: Shown) -> dict[str, Any]:
    return {"clip": clip_of(shown.sky, shown.look.clip_s)}


def _advisories(shown: Shown) -> dict[str, Any]:
    return {"advisories": shown.advisories}


def _answer(shown: Shown) -> dict[str, Any]:
    if shown.selected != "film":
        return {"answer": None}
    return {"answer": answer.of_session(shown.told.film, live().session(shown.slug, shown.look))}


@dataclass(frozen=True)
class Panel:
    """What a panel shows, and what works out what its template needs."""

    shows: frozenset[str]
    fill: Callable[[Shown], dict[str, Any]]


def _panel(fill: Callable[[Shown], dict[str, Any]], *shows: str) -> Panel:
    return Panel(frozenset(shows), fill)


SUN = ("moment", "site", "sun", "moon")
SKY = tuple(Sky.model_fields)
PANELS = {
    "section": _panel(_section, "layers", "relief", "fog", "camera", "site", "motion", "selected",
                      "look", "picture"),
    "schedule": _panel(_schedule, *SKY, "selected", "look"),
    "title": _panel(_title, *SUN, "name", "steps", "painted"),
    "ribbon": _panel(_ribbon, *SUN, "air"),
    "clip": _panel(_clip, "motion", "layers", "look"),
    "overlay": _panel(_overlay, *SUN, "camera", "layers", "relief", "site", "motion", "selected",
                      "look", "painted"),
    "advisories": _panel(_advisories, *SKY, "picture"),
    "answer": _panel(_answer, "picture")}


def stale(touched: Iterable[str]) -> list[str]:
    """The panels that show any of what was touched."""
    wanted = set(touched)
    return [name for name, panel in PANELS.items() if panel.shows & wanted]


def parts(shown: Shown, names: Iterable[str] = PANELS) -> dict[str, Any]:
    """All that the templates of some panels show."""
    sky = shown.sky
    if shown.selected.startswith("layer:") and all(
            f"layer:{x.id}" != shown.selected for x in sky.layers):
        shown.selected = "sun"
    found: dict[str, Any] = {"slug": shown.slug, "sky": sky, "revision": shown.revision,
                             "selected": shown.selected, "look": shown.look, "page": "composer",
                             "sheets": SHEETS}
    for name in names:
        found |= PANELS[name].fill(shown)
    return found
