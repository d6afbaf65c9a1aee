"""The document: defaults, limits, words of refusal, changes."""

from __future__ import annotations

import json
import math
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dovrek.sky.advisories import advisories
from dovrek.sky.changes import (
    difference,
    with_layer_added,
    with_layer_duplicated,
    with_layer_removed,
    with_values,
)
from dovrek.sky.document import LAYER_LIMIT, Air, Camera, Film, Site, Sky, Sun
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.sky.layer import GENUS_DEFAULTS, Layer
from dovrek.sky.parameter import parameter_at, parameters_of
from dovrek.sky.reading import sky_from_data, sky_from_text, sky_to_data, sky_to_text
from tests.conftest import sky_of


def refusal(data: Any) -> str:
    with pytest.raises(SkyError) as caught:
        sky_from_text(data) if isinstance(data, str | bytes) else sky_from_data(data)
    return str(caught.value)


def test_the_smallest_document_is_a_clear_sky() -> None:
    sky = sky_from_text('{"dovrek": 1}')
    assert sky.layers == [] and sky.film.exposure_ev is None


def test_round_trip_is_exact() -> None:
    sky = sky_of(name="Round", layers=[{"genus": g} for g in GENUS_DEFAULTS], seed=7)
    assert sky_from_text(sky_to_text(sky)) == sky
    assert json.loads(sky_to_text(sky)) == sky_to_data(sky)


def test_a_bare_genus_takes_its_defaults_and_given_keys_win() -> None:
    layer = sky_of(layers=[{"genus": "cirrus", "wind": {"comb": 0.1}}]).layers[0]
    assert layer.base_m == GENUS_DEFAULTS["cirrus"]["base_m"]
    assert layer.wind.comb == 0.1
    assert layer.wind.from_deg == GENUS_DEFAULTS["cirrus"]["wind"]["from_deg"]


@pytest.mark.parametrize(("data", "parts"), [
    ({"dovrek": 1, "layers": [{"thickness_m": -4}]},
     ["layers[0].thickness_m", "-4", "10 to 15000 m"]),
    ({"dovrek": 1, "layers": [{"body": {"fry": 1}}]},
     ["layers[0].body.fry", "unknown key", "did you mean fray?"]),
    ({"dovrek": 1, "film": {"contrast": 9}}, ["film.contrast", "9", "0.5 to 1.6"]),
    ({"dovrek": 1, "site": {"timezone": "Europe/Marrowby"}},
     ["site.timezone", "Europe/Marrowby", "unknown time zone", "IANA"]),
    ({"dovrek": 1, "site": {"timezone": "../../etc/passwd"}}, ["site.timezone", "IANA"]),
    ({"dovrek": 1, "moment": "tomorrow"}, ["moment", "tomorrow", "ISO"]),
    ({"dovrek": 1, "moment": "0001-01-01T00:00"}, ["moment", "1900 to 2100"]),
    ({"dovrek": 1, "layers": [{"genus": "cumulo"}]}, ["layers[0].genus", "cumulus, stratus"]),
    ({"dovrek": 1, "air": {"haze": math.nan}}, ["air.haze", "finite"]),
    ({"dovrek": 1, "air": {"haze": "much"}}, ["air.haze", "much", "a number from 0 to 2"]),
    ({"dovrek": 1, "layers": [{}] * 17}, ["17 layers", "at most 16"]),
    ({"dovrek": 2}, ["dovrek", "2", "version 1"]),
    ({}, ["dovrek", '"dovrek": 1']),
    ([], ["sky", '{"dovrek": 1}']),
    ({"dovrek": 1, "layers": {"a": 1}}, ["layers", "list"]),
    ({"dovrek": 1, "camera": 5}, ["camera", "group"]),
    ({"dovrek": 1, "layers": [{"id": "a"}, {"id": "a"}]}, ["two layers share an id"]),
    ({"dovrek": 1, "name": " "}, ["name", "printable"]),
    ('{"dovrek": 1, "air": {"haze": NaN}}', ["NaN", "finite"]),
    ('{"dovrek": 1, "air": {"haze": 1e999}}', ["air.haze", "finite"]),
    ('{"dovrek": 1, "seed": 1, "seed": 2}', ["seed", "twice"]),
    ("{nope", ["line 1", "not readable JSON"]),
    (b"\xff\xfe\x00", ["UTF-8"]),
    ("[" * 100_000, ["nested too deeply"]),
    ('{"dovrek": 1, "name": "' + "x" * (3 << 20) + '"}', ["too large", "2 MB"]),
    ('{"dovrek": 1, "seed": ' + "9" * 5000 + "}", ["sky", "JSON"]),
])
def test_refusals_name_path_value_and_mend(data: Any, parts: list[str]) -> None:
    text = refusal(data)
    for part in parts:
        assert part in text, text
    assert "\n" not in text


def test_every_parameter_is_declared_fully_and_once() -> None:
    seen = set()
    for model in (Sky, Site, Sun, Air, Camera, Film, Layer):
        for p in parameters_of(model):
            assert p.label and p.group and p.help.endswith("."), p
            if p.kind in ("number", "integer"):
                assert p.low is not None and p.high is not None and p.step
                assert p.low < p.high and (p.scale == "linear" or p.low > 0), p
            seen.add((model.__name__, p.path))
    assert len(seen) > 50


def test_schema_carries_units_and_limits() -> None:
    schema = Sky.model_json_schema()
    base = schema["$defs"]["Layer"]["properties"]["base_m"]
    assert base["unit"] == "m" and base["minimum"] == 30 and base["description"]
    assert schema["additionalProperties"] is False


def test_values_by_path() -> None:
    sky = sky_of(layers=[{"id": "a"}, {"id": "b"}])
    changed = with_values(sky, {"layers[b].body.fray": 0.9, "air.haze": 0.3})
    assert changed.layers[1].body.fray == 0.9 and sky.layers[1].body.fray != 0.9
    assert difference(sky, changed) == ["air.haze", "layers[b].body.fray"]
    with pytest.raises(SkyConflict):
        with_values(sky, {"layers[c].seed": 4})
    for path in ("air.hase", "__class__", "layers[a].__dict__", "", "air..haze!", "layers"):
        with pytest.raises(SkyError):
            with_values(sky, {path: 1})


def test_layers_come_and_go() -> None:
    sky, first = with_layer_added(sky_of(), "cumulus")
    sky, copy = with_layer_duplicated(sky, first)
    assert [x.id for x in sky.layers] == [first, copy]
    assert sky.layers[0].seed != sky.layers[1].seed
    assert [x.id for x in with_layer_removed(sky, first).layers] == [copy]
    with pytest.raises(SkyError, match="known genus"):
        with_layer_added(sky, "cottonwool")
    full = sky_of(layers=[{}] * LAYER_LIMIT)
    with pytest.raises(SkyError, match="16"):
        with_layer_added(full, "cirrus")


def test_advisories_name_place_and_mend() -> None:
    sky = sky_of(camera={"altitude_m": 1500}, layers=[{"genus": "cumulus", "base_m": 1200},
                                                      {"genus": "cirrus", "base_m": 900}])
    found = {a.code: a for a in advisories(sky, 40.0)}
    assert found["camera in cloud"].mend and found["étage"].where == "layers[1].base_m"
    assert {a.code for a in advisories(sky_of(), -15.0)} == {"night"}
    lid = advisories(sky, 40.0, {sky.layers[1].id: 0.3})[-1]
    assert lid.code == "lid" and lid.where == "layers[1].thickness_m" and "30 %" in lid.text
    every = advisories(sky_of(layers=[{"genus": g} for g in GENUS_DEFAULTS]), 30.0)
    assert {a.code for a in every} == {"hidden"}  # by the unbroken sheets among them


@settings(max_examples=150, deadline=None)
@given(st.recursive(st.none() | st.booleans() | st.floats() | st.integers() | st.text(max_size=8),
                    lambda x: st.lists(x, max_size=4) | st.dictionaries(
                        st.sampled_from(["layers", "air", "haze", "body", "genus", "film", "name",
                                         "site", "moment", "zz"]), x, max_size=4), max_leaves=12))
def test_hostile_documents_are_refused_in_words_or_read(data: Any) -> None:
    document = {"dovrek": 1, **data} if isinstance(data, dict) else data
    try:
        sky = sky_from_data(document)
    except SkyError as error:
        assert str(error)
    else:
        json.dumps(sky_to_data(sky), allow_nan=False)


def test_parameter_lookup() -> None:
    found = parameter_at(Layer, "cells.size_m")
    assert found is not None and found.unit == "m" and parameter_at(Layer, "cells.none") is None
