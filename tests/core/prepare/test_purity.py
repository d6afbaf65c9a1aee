"""A scene is what its document says, whatever was prepared before it: every parameter is changed
in turn, and what a warm cache gives is held against what is built cold, to the bit."""

from __future__ import annotations

import io
from typing import Any

import numpy as np
import pytest
from PIL import Image

from dovrek.core.air.scattering import DRAFT
from dovrek.core.air.sky_view import SkyView, build_sky_view
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare import atmosphere, preparer
from dovrek.core.prepare.fineness import Fineness
from dovrek.core.prepare.preparer import Prepared, Preparer
from dovrek.core.run.cache import Place, StageCache
from dovrek.core.run.workers import Cancel
from dovrek.formats.cover_maps import embedded
from dovrek.sky.changes import with_values
from dovrek.sky.document import Air, Camera, Moon, Site, Sky, Sun
from dovrek.sky.errors import SkyError
from dovrek.sky.fog import Fog
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.ground import Ground
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import Parameter, parameters_of
from dovrek.sky.relief import Relief
from dovrek.sky.trials import value_at
from tests.conftest import long, sky_of

TINY = Fineness("tiny", 20, 12, (2, 1), (1, 1))
AIR = {"sun table", "scattering", "sky view", "sunlight"}
AROUND = AIR | {"land"}  # of a layer


class Beginning(StageCache):
    """What a cold build may begin with: of the warm cache the stages `given`, which are tested
    with controls of their own, and what was built cold of the other layer alone."""

    def __init__(self, warm: StageCache, cold: StageCache, given: set[str]) -> None:
        super().__init__()
        self.warm, self.cold, self.given = warm, cold, given

    def __contains__(self, place: Place) -> bool:
        return self.find(place)[0]

    def find(self, place: Place) -> tuple[bool, Any]:
        there, value = super().find(place)
        if there:
            return there, value
        return (self.warm if place[0] in self.given else self.cold).find(place)


def values_other_than(sky: Sky, parameter: Parameter, path: str) -> list[Any]:
    """A value or two of a parameter that the sky does not have."""
    now = value_at(sky, path)
    if parameter.kind in ("number", "integer"):
        low, high = float(parameter.low or 0.0), float(parameter.high or 0.0)
        middle = low + 0.37 * (high - low) if parameter.scale == "linear" else (
            max(low, 1e-3) ** 0.6 * high**0.4)
        return [v for v in (int(middle) if parameter.kind == "integer" else round(middle, 3),)
                if v != now]
    if parameter.kind == "switch":
        return [not now]
    if parameter.kind == "choice":
        return [o for o in parameter.options if o != now][:1]
    if parameter.kind == "words":
        return [[parameter.options[0]]]
    if parameter.kind == "curve":
        return [[(0.0, 0.2), (1.0, 0.9)]]
    if parameter.kind == "colour":
        return ["#3060c0"]
    if parameter.kind == "map":
        grey, file = np.add.outer(np.arange(24), np.arange(24)).astype(np.uint8) * 5, io.BytesIO()
        Image.fromarray(grey).save(file, "PNG")
        return [embedded(file.getvalue())]
    return []


def same(one: Any, other: Any, where: str = "scene") -> None:
    """Everything in two results is equal, to the bit."""
    assert type(one) is type(other), where
    if isinstance(one, np.ndarray | np.void):
        if one.dtype.names:
            for name in one.dtype.names:
                assert np.array_equal(one[name], other[name]), f"{where}.{name}"
        else:
            assert one.shape == other.shape and np.array_equal(one, other), where
    elif isinstance(one, tuple):
        names = getattr(one, "_fields", range(len(one)))
        assert len(one) == len(other), where
        for name, a, b in zip(names, one, other, strict=True):
            same(a, b, f"{where}.{name}")
    else:
        assert one == other, where


def scenes(prepared: Prepared) -> tuple[Any, ...]:
    return tuple(light.scene for light in prepared.lights)


def held(studio: Studio, warm: Preparer, start: Sky, changes: list[tuple[str, Any]],
         given: set[str]) -> int:
    """Make every change to a sky in turn and hold warm against cold, built with the stages `given`
    at hand; how many were made."""
    made, beside = 0, Preparer(studio.workers, StageCache())
    warm.scene(start, TINY, Cancel())
    beside.scene(start.model_copy(update={"layers": start.layers[1:]}), TINY, Cancel())
    for path, value in changes:
        try:
            sky = with_values(start, {path: value})
        except SkyError:
            continue  # a word that this genus does not have
        found = warm.scene(sky, TINY, Cancel())
        cache = Beginning(warm.cache, beside.cache, given) if given else StageCache()
        cold = Preparer(studio.workers, cache).scene(sky, TINY, Cancel())
        same(scenes(found), scenes(cold), path)
        made += 1
    return made


def layer_changes(sky: Sky) -> list[tuple[str, Any]]:
    changes = []
    for parameter in parameters_of(Layer):
        path = f"layers[a].{parameter.path}"
        if parameter.path in ("name", "visible", "locked"):
            continue
        changes += [(path, v) for v in values_other_than(sky, parameter, path)]
    return changes


@pytest.mark.parametrize(("genus", "every"), [
    *(long(genus, 1) for genus in GENUS_DEFAULTS), ("cumulus", 9), ("stratocumulus", 13)])
def test_a_layer_is_what_it_says(studio: Studio, genus: str, every: int,
                                 monkeypatch: pytest.MonkeyPatch) -> None:
    """Over a second layer that it shades. Rows, region and life are set, so that their own values
    count; of the controls all, or some from day to day. What the air looks like under it is left
    to the other test: one view stands for all."""
    built: list[SkyView] = []

    def one_view(*given: Any) -> SkyView:
        if not built:
            built.append(build_sky_view(*given))
        return built[0]

    monkeypatch.setattr(atmosphere, "build_sky_view", one_view)
    start = sky_of(sun={"mode": "free", "elevation_deg": 40}, relief={"form": "hills"}, layers=[
        {"genus": genus, "id": "a", "rows": {"share": 0.4}, "region": {"side": "inside"},
         "life": {"stage": 0.7, "spread": 0.3}, "clearings": {"share": 0.2},
         "wash": {"strength": 0.5}, "bounds": {"shape": "ellipse", "length_km": 30},
         "drape": {"amount": 0.4}},
        {"genus": "stratus", "id": "b", "cover_oktas": 5, "base_m": 300}])
    warm = Preparer(studio.workers, StageCache())
    assert held(studio, warm, start, layer_changes(start)[::every], AROUND) > 45 // every


DUSK = {"moment": "2026-03-28T18:40", "relief": {"form": "hills"}, "fog": {"present": True}}


def changes_of(start: Sky, rooms: tuple[tuple[str, Any], ...]) -> list[tuple[str, Any]]:
    """Other values of all that the models under these names declare."""
    paths = [(f"{prefix}.{parameter.path}", parameter) for prefix, model in rooms
             for parameter in parameters_of(model)]
    return [(path, v) for path, parameter in paths
            for v in values_other_than(start, parameter, path)]


@pytest.mark.parametrize("every", [6, long(1)])
def test_the_surroundings_are_what_they_say(studio: Studio, every: int,
                                            monkeypatch: pytest.MonkeyPatch) -> None:
    """Site, moment, sun, moon, air and camera, by a sun just set under a moon. Every air is built
    anew; a draft of it hangs on the same."""
    monkeypatch.setattr(preparer, "FULL", DRAFT)
    start = sky_of(layers=[{"genus": "cirrus", "id": "a"}], **DUSK)
    changes: list[tuple[str, Any]] = [("moment", "2026-03-28T19:30"), ("seed", 9)]
    changes += changes_of(start, (("site", Site), ("sun", Sun), ("moon", Moon), ("air", Air),
                                  ("camera", Camera)))
    warm = Preparer(studio.workers, StageCache())
    assert held(studio, warm, start, changes[::every], set()) > 20 // every


@pytest.mark.parametrize("every", [7, long(1)])
def test_land_and_fog_are_what_they_say(studio: Studio, every: int) -> None:
    """Under the same sun and moon; the air, which is the other test's, may be at hand."""
    start = sky_of(layers=[{"genus": "cirrus", "id": "a"}], **DUSK)
    changes = changes_of(start, (("relief", Relief), ("fog", Fog), ("ground", Ground)))
    warm = Preparer(studio.workers, StageCache())
    assert held(studio, warm, start, changes[::every], AIR) > 20 // every


@pytest.mark.long
@pytest.mark.parametrize(("path", "value"), [
    ("layers[a].body.fray", 0.9), ("layers[a].body.fray", 1.0),
    ("layers[a].life.early_decay", 0.6), ("camera.altitude_m", 40.0)])
def test_what_keys_once_forgot(studio: Studio, path: str, value: float) -> None:
    """Heaps kept without their edge's shift, shreds without early decay, a body by the camera's
    rounded height: each was another scene on a warm cache."""
    start = sky_of(sun={"mode": "free", "elevation_deg": 40}, layers=[
        {"genus": "cumulus", "species": "fractus", "id": "a", "cover_oktas": 4,
         "body": {"fray": 0.3}, "life": {"stage": 0.7, "spread": 0.4}}])
    warm = Preparer(studio.workers, StageCache())
    assert held(studio, warm, start, [(path, value)], AROUND) == 1


def test_a_wash_colours_what_is_at_hand(studio: Studio) -> None:
    """Its colour builds the scene anew, and no density, depth or diffusion."""
    start = sky_of(sun={"mode": "free", "elevation_deg": 40}, layers=[
        {"genus": "cumulus", "id": "a"}, {"genus": "stratus", "id": "b", "base_m": 300}])
    warm = Preparer(studio.workers, StageCache())
    warm.scene(start, TINY, Cancel())
    warm.cache.reset_clock()
    warm.scene(with_values(start, {"layers[a].wash.strength": 0.7,
                                   "layers[a].wash.lit": "#ff8040"}), TINY, Cancel())
    assert warm.cache.built == ["scene"]
