"""The schedule: the controls of the selected thing, straight from their declarations."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from pydantic import BaseModel

from dovrek.sky.behind import Behind
from dovrek.sky.document import Sky, Sun
from dovrek.sky.fog import Fog
from dovrek.sky.genera import WORDS, defaults_of
from dovrek.sky.ground import Ground
from dovrek.sky.hero import Hero
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import Parameter, parameters_of
from dovrek.sky.relief import Relief
from dovrek.sky.trials import WITHOUT_STRIP, share_of, value_in
from dovrek.web.composer.greys import Greys, greys_of
from dovrek.web.shared.things import HEAD_NAMES, HEAD_OF, HEADS
from dovrek.web.shared.told import Told

POSITIONS = 1000
FOOT_M = 0.3048
HIDDEN = {"visible", "locked"}  # switches of the layer's head
# Closed until asked for.
FOLDED = {"Region", "Cover map", "Bank", "Drape", "Rows", "Life", "Fall", "Light", "Wash",
          "Cyclone", "Weather systems", "Planet"}
LEVEL_CURVE = [[0.0, 1.0], [0.5, 1.0], [1.0, 1.0]]  # what an empty profile stands for
ONLY_FREE = {"elevation_deg", "azimuth_deg"}
# Of the land: what an invented one has, and what a map has.
ONLY_INVENTED, ONLY_MAP = {"ruggedness", "seed"}, {"lowest_m"}
ONLY_LENS, ONLY_ROUND = {"lens_mm", "heading_deg", "pitch_deg"}, {"turn_deg"}  # of what is behind
ONLY_CONTINENTS = {"land_share", "size_km", "seed"}  # of the ground
ONLY_LEVEL = {"level_m"}  # of a fog that fills up to it
KEPT, LARGE = 64, 50_000  # things whose rows are kept, and characters of one that is not: a map


@dataclass(frozen=True)
class Row:
    """One control as shown."""

    parameter: Parameter
    path: str
    value: Any
    text: str
    position: float
    default_text: str
    changed: bool
    automatic: bool
    id: str
    options: tuple[str, ...] = ()
    unit: str = ""
    factor: float = 1.0  # of the unit shown: metres in a foot
    default_value: str = ""  # the default in the document's own unit
    strip: bool = True
    greys: Greys | None = None  # of a cover map

    @property
    def points(self) -> list[list[float]]:
        """Points of a curve as drawn."""
        return [list(p) for p in self.value] or LEVEL_CURVE


@dataclass(frozen=True, eq=False)
class Group:
    """Controls under one heading. The same object stands for them as long as they are the same."""

    name: str
    rows: tuple[Row, ...]


@dataclass(frozen=True)
class Sheet:
    """The schedule of one thing."""

    thing: str
    title: str
    subtitle: str
    groups: tuple[Group, ...]


def number_text(value: float | int | None, parameter: Parameter, factor: float = 1.0) -> str:
    """A value as written on the schedule, no more digits than its step asks for; `factor` is
    that of the unit shown."""
    if value is None:
        return ""
    if factor != 1.0:
        value /= factor
    if parameter.kind == "integer":
        return str(int(value))
    step = parameter.step or 0.01
    digits = len(f"{step:.6f}".rstrip("0").partition(".")[2])
    if parameter.scale == "log" and value < 10 * step:
        digits += 1
    text = f"{value:.{digits}f}"
    return text.rstrip("0").rstrip(".") if "." in text and digits > 1 else text


def position_of(value: float | None, parameter: Parameter) -> float:
    """Place of a value on its range, 0 … 1000."""
    if value is None:
        return POSITIONS / 2
    return round(POSITIONS * share_of(parameter, value), 1)


def _default(parameter: Parameter, layer: Layer | None) -> Any:
    if layer is not None:
        found: Any = defaults_of(layer.genus, layer.species, layer.varieties, layer.features)
        for part in parameter.path.split("."):
            found = found.get(part) if isinstance(found, dict) else None
        if found is not None:
            return found
    return parameter.default


def _options(parameter: Parameter, layer: Layer | None) -> tuple[str, ...]:
    """Words to choose from: those that the layer's genus has."""
    if layer is None or parameter.path not in WORDS:
        return parameter.options
    known = tuple(WORDS[parameter.path][layer.genus])
    return ("", *known) if parameter.kind == "choice" and known else known


def _idle(model: Any, path: str) -> bool:
    """Whether a control does nothing as its part of the sky is set."""
    if isinstance(model, Relief):
        return path not in ("form", "asset") and (
            model.form == "none" or path in (ONLY_INVENTED if model.form == "map" else ONLY_MAP))
    if isinstance(model, Ground):
        return path != "kind" and (model.kind == "land" or (
            path in ONLY_CONTINENTS and model.kind != "continents") or (
            path == "map" and model.kind != "map"))
    if isinstance(model, Behind):
        return path != "asset" and (not model.asset or path in (
            ONLY_LENS if model.kind == "dome" else ONLY_ROUND))
    if isinstance(model, Fog):
        return path != "present" and (not model.present or (
            path in ONLY_LEVEL and model.lies == "ground"))
    if isinstance(model, Layer) and path.startswith("bounds."):
        return path != "bounds.shape" and model.bounds.shape == "none"
    if isinstance(model, Layer) and path.startswith("cyclone."):
        return path != "cyclone.stands" and not model.cyclone.stands
    if isinstance(model, Layer) and path.startswith("systems."):
        return path != "systems.stands" and not model.systems.stands
    if isinstance(model, Layer) and path == "drape.contrast":
        return model.drape.gather == 0.0
    if isinstance(model, Hero) and path.startswith("wash_"):
        return not model.wash
    return False


def _groups(model: BaseModel, prefix: str, units: str) -> tuple[Group, ...]:
    """The controls of a part of the sky: most parts are as they were a change ago."""
    told = Told(model)
    return (_groups_kept if len(told.said) < LARGE else _groups_of)(told, prefix, units)


def _groups_of(told: Told[Any], prefix: str, units: str) -> tuple[Group, ...]:
    model: Any = told.model
    groups: dict[str, list[Row]] = {}
    layer = model if isinstance(model, Layer) else None
    for parameter in parameters_of(type(model)):
        if parameter.path in HIDDEN or (layer and not parameter.shown_for(layer.genus)):
            continue
        if isinstance(model, Sun) and parameter.path in ONLY_FREE and model.mode == "clock":
            continue
        if _idle(model, parameter.path):
            continue
        options = _options(parameter, layer)
        if parameter.path in WORDS and not options:
            continue
        value = value_in(model, parameter.path)
        default = _default(parameter, layer)
        path = f"{prefix}{parameter.path}"
        feet = units == "feet" and parameter.unit == "m"
        factor = FOOT_M if feet else 1.0
        numeric = parameter.kind in ("number", "integer")
        groups.setdefault(parameter.group, []).append(Row(
            parameter, path, value,
            number_text(value, parameter, factor) if numeric else str(value),
            position_of(value, parameter) if numeric else 0.0,
            (number_text(default, parameter, factor) if default is not None else parameter.derived)
            if numeric else str(default),
            value != default and parameter.path not in ("name", "seed"),
            numeric and parameter.optional and value is None,
            "c-" + path.replace("[", "-").replace("]", "").replace(".", "-"), options,
            "ft" if feet else parameter.unit, factor,
            number_text(default, parameter) if numeric else "",
            parameter.kind not in WITHOUT_STRIP,
            greys_of(layer.map) if layer and parameter.path == "map.asset" else None))
    return tuple(Group(name, tuple(rows)) for name, rows in groups.items())


_groups_kept = lru_cache(KEPT)(_groups_of)


def sheet_of(sky: Sky, thing: str, facts: dict[str, str], units: str = "metres") -> Sheet:
    """The schedule of a layer (``layer:ID``) or of one of the sky's other parts."""
    if thing.startswith("layer:"):
        layer = next((x for x in sky.layers if x.id == thing[6:]), None)
        if layer is None:
            return sheet_of(sky, "sun", facts, units)
        return Sheet(thing, layer.name or layer.genus.capitalize(), layer_subtitle(layer),
                     _groups(layer, f"layers[{layer.id}].", units))
    if thing.startswith("hero:"):
        return _hero_sheet(sky, thing, facts, units)
    thing = HEAD_OF.get(thing, "sun")
    groups = tuple(group for part in HEADS[thing]
                   for group in _groups(getattr(sky, part), f"{part}.", units))
    if thing == "site":
        moment = next(p for p in parameters_of(Sky) if p.path == "moment")
        place = groups[0]
        groups = (Group(place.name, (*place.rows, Row(
            moment, "moment", sky.moment, sky.moment, 0.0, "", False, False, "c-moment",
            strip=False))), *groups[1:])
    return Sheet(thing, HEAD_NAMES[thing],
                 facts.get("place" if thing == "site" else thing, ""), groups)


def _hero_sheet(sky: Sky, thing: str, facts: dict[str, str], units: str) -> Sheet:
    """The schedule of a cloud placed by hand (``hero:LAYER:ID``), or of its layer without it."""
    _, layer_id, hero_id = [*thing.split(":"), "", ""][:3]
    for layer in sky.layers:
        for hero in layer.heroes:
            if (layer.id, hero.id) == (layer_id, hero_id):
                title = layer.name or layer.genus.capitalize()
                return Sheet(thing, hero.title, f"placed by hand in {title}", _groups(
                    hero, f"layers[{layer_id}].heroes[{hero_id}].", units))
    return sheet_of(sky, f"layer:{layer_id}", facts, units)


def layer_subtitle(layer: Layer) -> str:
    """Étage and heights in a few words."""
    middle = layer.base_m
    etage = "low" if middle < 2000 else "middle" if middle < 6000 else "high"
    name = " ".join([layer.genus, layer.species, *layer.varieties]).replace("  ", " ").strip()
    return f"{etage} · {layer.base_m / 1000:.1f}–{layer.top_m / 1000:.1f} km · {name}"
