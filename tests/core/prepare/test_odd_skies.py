"""Skies nobody would order: a picture or a clear word, never a crash or a hole."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.advisories import advisories
from dovrek.sky.errors import SkyError
from dovrek.sky.reading import sky_from_data

HEAP: dict[str, Any] = {"genus": "cumulus", "cover_oktas": 5.0}
ODD: dict[str, dict[str, Any]] = {
    "one layer inside another": {"layers": [
        {**HEAP, "base_m": 1000, "thickness_m": 2000},
        {"genus": "stratus", "base_m": 1400, "thickness_m": 300, "cover_oktas": 6}]},
    "ten metres thick": {"layers": [{**HEAP, "thickness_m": 10},
                                    {"genus": "cirrus", "thickness_m": 10}]},
    "fifteen kilometres thick": {"layers": [{**HEAP, "thickness_m": 15_000}]},
    "base below the ground": {"site": {"elevation_m": 3000},
                              "layers": [{**HEAP, "base_m": 900}]},
    "base below the camera": {"camera": {"altitude_m": 6000, "pitch_deg": -20},
                              "layers": [HEAP, {"genus": "cirrus"}]},
    "camera inside a heap": {"camera": {"altitude_m": 1500}, "layers": [{**HEAP,
                                                                       "cover_oktas": 8}]},
    "camera inside a sheet": {"camera": {"altitude_m": 600}, "layers": [{"genus": "stratus"}]},
    "sixteen layers": {"layers": [{"genus": g, "base_m": 500 + 600 * k, "cover_oktas": 2}
                                  for k, g in enumerate(("cumulus", "stratus", "altocumulus",
                                                         "cirrus") * 4)]},
    "no layer": {"layers": []},
    "small cells": {"layers": [{**HEAP, "cells": {"size_m": 200}}]},
    "large cells": {"layers": [{**HEAP, "cells": {"size_m": 20_000}}]},
    "sun at the nadir": {"sun": {"mode": "free", "elevation_deg": -90}, "layers": [HEAP]},
    "sun at the zenith": {"sun": {"mode": "free", "elevation_deg": 90}, "layers": [HEAP]},
    "8 mm": {"camera": {"lens_mm": 8}, "layers": [HEAP]},
    "800 mm": {"camera": {"lens_mm": 800, "pitch_deg": 3}, "layers": [HEAP]},
    "shadow rays through nothing": {"air": {"shadow_rays": True, "haze": 0.0}, "layers": [HEAP]},
}


@pytest.mark.parametrize("name", list(ODD))
def test_odd_skies_make_pictures(studio: Studio, name: str) -> None:
    sky = sky_from_data({"dovrek": 1, **ODD[name]})
    rendered = studio.render(sky, Wish(64, 36, "sketch"))
    assert np.isfinite(rendered.light).all() and np.isfinite(rendered.metered.ev)
    assert rendered.light[..., 1].min() >= -1e-9
    assert rendered.light[..., 1].max() > 0.0


def test_more_layers_than_are_kept_come_back_the_same(studio: Studio) -> None:
    """Their light does not all fit into what is kept: what was pushed out is made again."""
    layers = [{"genus": "cirrus", "base_m": 6000 + 400 * k, "thickness_m": 300, "seed": k,
               "cover_oktas": 2} for k in range(14)]

    def light(height: float) -> Any:
        sky = sky_from_data({"dovrek": 1, "layers": layers, "sun": {
            "mode": "free", "elevation_deg": height, "azimuth_deg": 90}})
        return studio.render(sky, Wish(48, 27, "sketch")).light

    first, other = light(40.0), light(15.0)
    for height in (60.0, 50.0, 30.0, 20.0):  # more scenes than are kept as well
        light(height)
    again = light(40.0)
    assert np.array_equal(first, again)
    assert not np.allclose(first, other, rtol=0.05)


@pytest.mark.parametrize(("name", "code"), [
    ("base below the ground", "base below ground"), ("camera inside a heap", "camera in cloud"),
    ("sun at the nadir", "night")])
def test_odd_skies_are_pointed_out(name: str, code: str) -> None:
    sky = sky_from_data({"dovrek": 1, **ODD[name]})
    found = {a.code: a for a in advisories(sky, sky.sun.elevation_deg)}
    assert code in found and found[code].mend


@pytest.mark.parametrize(("layers", "words"), [
    ([HEAP] * 17, "at most 16"), ([{**HEAP, "cells": {"size_m": 10}}], "200 to 20000"),
    ([{**HEAP, "cells": {"size_m": 50_000}}], "200 to 20000"),
    ([{**HEAP, "thickness_m": 9}], "10 to 15000")])
def test_what_is_refused_is_refused_in_words(layers: list[dict[str, Any]], words: str) -> None:
    with pytest.raises(SkyError, match=words):
        sky_from_data({"dovrek": 1, "layers": layers})
