"""The tools that measure and redraw run on the code as it is: their small parts, so that a change
which breaks one is seen at once."""

from __future__ import annotations

import importlib
from pathlib import Path

import pytest

import tools
from dovrek.core.picture.render import QUALITIES
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from tools import bench
from tools.builds import FAMILIES, build_seconds, table_of
from tools.lookups import per_ray

NAMES = sorted(path.stem for path in Path(tools.__file__).parent.glob("[a-z]*.py"))


@pytest.mark.parametrize("name", NAMES)
def test_a_tool_finds_what_it_imports(name: str) -> None:
    assert importlib.import_module(f"tools.{name}").__doc__


def test_plain_look_ups_are_counted() -> None:
    rate = bench.lookup_rate(runs=1, count=20_000)
    assert rate["coherent"] > 0.1 and rate["scattered"] > 0.1  # millions a second


def test_look_ups_of_a_ray_are_counted_through_clouds_and_clear_air(studio: Studio) -> None:
    sky, wish = bench.demo_sky(), Wish(96, 54, "draft", sun_disc=False)
    clear = sky.model_copy(update={"layers": []})
    counts = {}
    for name, some in (("heaps", sky), ("clear", clear)):
        prepared, _ = studio.prepare(some, wish, Cancel())
        counts[name] = per_ray(prepared, wish.lens(some), (96, 54), QUALITIES["draft"].step, 40)
    assert counts["heaps"]["densities"] > 5 and counts["heaps"]["noise"] > 5
    assert counts["heaps"]["shapes"] > 1 and counts["heaps"]["light"] > 1
    assert counts["clear"]["densities"] == counts["clear"]["light"] == 0


def test_a_build_is_told_by_stage() -> None:
    studio = Studio(1)
    seconds = build_seconds(studio, ("altostratus",))
    studio.close()
    assert seconds["in all"] > seconds["extinction"] > 0
    table = table_of({"veils": seconds})
    assert table.row_count == len(seconds) and len(table.columns) == 2
    assert len(FAMILIES) == len(bench.five_skies()) == 5


def test_a_part_that_the_bench_has_not_is_named() -> None:
    with pytest.raises(SystemExit, match="no part of the bench: wings; there are renders"):
        bench.main(["page", "wings"])
