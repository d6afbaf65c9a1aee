"""Stored skies: revisions, undo and redo across restarts, two windows."""

from __future__ import annotations

from typing import Any

import pytest

from dovrek.settings import Settings
from dovrek.sky.changes import difference, with_values
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.store import skies, versions
from dovrek.store.demo import ORDER, demo_versions, load_demo
from dovrek.store.orders import OrderError, order_from
from dovrek.store.tables import open_database
from tests.conftest import sky_of


def put(slug: str, base: int, gesture: str = "", **values: Any) -> skies.Written:
    return skies.change(slug, base, "test", lambda s: with_values(s, values), gesture)


def test_undo_and_redo_survive_a_restart(store: Settings) -> None:
    row = skies.add_sky(sky_of(name="Ones"))
    base = row.head_id
    for seed in (2, 3, 4):
        base = put("ones", base, seed=seed).revision
    assert skies.undo("ones").sky.seed == 3  # type: ignore[union-attr]
    assert skies.undo("ones").sky.seed == 2  # type: ignore[union-attr]
    database = open_database(store.database)
    with database.connection_context():
        assert skies.load("ones")[0].seed == 2
        assert skies.steps("ones") == (1, 2)
        assert skies.redo("ones").sky.seed == 3  # type: ignore[union-attr]
        assert skies.redo("ones").sky.seed == 4  # type: ignore[union-attr]
        assert skies.redo("ones") is None
        for _ in range(3):
            skies.undo("ones")
        assert skies.undo("ones") is None and skies.load("ones")[0].seed == 1


def test_a_drag_is_one_step(store: Settings) -> None:
    base = skies.add_sky(sky_of(name="Drag")).head_id
    for haze in (0.2, 0.3, 0.4):
        base = put("drag", base, "g1", **{"air.haze": haze}).revision
    assert skies.steps("drag") == (1, 0)
    assert skies.undo("drag").sky.air.haze == 0.1  # type: ignore[union-attr]


def test_the_second_window_is_told_and_keeps_its_change(store: Settings) -> None:
    seen = skies.add_sky(sky_of(name="Two")).head_id
    put("two", seen, **{"air.haze": 0.4})
    second = put("two", seen, seed=5)
    assert second.others == ("air.haze",)
    assert (second.sky.air.haze, second.sky.seed) == (0.4, 5)
    back = skies.undo("two")
    assert back is not None and (back.sky.air.haze, back.sky.seed) == (0.4, 1)


def test_a_refused_change_stores_nothing(store: Settings) -> None:
    base = skies.add_sky(sky_of(name="Firm")).head_id
    with pytest.raises(SkyError):
        put("firm", base, **{"air.haze": 99})
    assert skies.load("firm") == (sky_of(name="Firm"), base)
    with pytest.raises(SkyConflict):
        put("firm", 10_000, seed=3)
    assert put("firm", base, seed=1).revision == base  # no change, no revision


def test_names_slugs_copies_and_deletion(store: Settings) -> None:
    for _ in range(2):
        skies.add_sky(sky_of(name="Été à Marrowby"))
    assert {r.slug for r in skies.gallery()} == {"ete-a-marrowby", "ete-a-marrowby-2"}
    copy = skies.duplicate("ete-a-marrowby")
    assert skies.load(copy.slug)[0].name.endswith("copy")
    skies.delete("ete-a-marrowby")
    with pytest.raises(skies.NoSuchSky):
        skies.load("ete-a-marrowby")
    skies.restore("ete-a-marrowby")
    assert len(skies.gallery()) == 3


def test_a_free_slug_fills_gaps_and_minds_no_longer_names(store: Settings) -> None:
    for name in ("Dune", "Dunes", "Dune 3", "Dune", "Dune", "Dune"):
        skies.add_sky(sky_of(name=name))
    assert [slug for slug, _ in reversed(skies.names())] == [
        "dune", "dunes", "dune-3", "dune-2", "dune-4", "dune-5"]


def test_the_gallery_is_found_by_words_and_shown_in_parts(store: Settings) -> None:
    for name in ("Bay at noon", "Bay, 50 % cover", "Ridge at noon", "Noon over the bay"):
        skies.add_sky(sky_of(name=name))
    found = {words: [row.name for row in skies.gallery(words)] for words in (
        "", "noon bay", "NOON", "50 %", "%", "dusk")}
    assert found == {"": ["Noon over the bay", "Ridge at noon", "Bay, 50 % cover", "Bay at noon"],
                     "noon bay": ["Noon over the bay", "Bay at noon"],
                     "NOON": ["Noon over the bay", "Ridge at noon", "Bay at noon"],
                     "50 %": ["Bay, 50 % cover"], "%": ["Bay, 50 % cover"], "dusk": []}
    first = skies.gallery(most=2)
    rest = skies.gallery(before=first[-1].changed)
    assert [row.name for row in first + rest] == found[""]
    skies.delete(rest[0].slug)
    assert [row.name for row in skies.gallery("bay")] == ["Noon over the bay", "Bay at noon"]
    assert [name for _, name in skies.names()] == ["Noon over the bay", "Ridge at noon",
                                                   "Bay at noon"]


def test_demo_only_goes_into_an_empty_store(store: Settings) -> None:
    assert load_demo() == len(ORDER) == 7 and load_demo() == 0
    for slug, _ in demo_versions().items():
        present = skies.load(slug)[0]
        rows = versions.versions(slug)
        assert len(rows) == 2
        assert all(difference(present, versions.sky_of(row)) for row in rows)


@pytest.mark.parametrize(("fields", "part"), [
    ({"width": "17000", "height": "100"}, "width"), ({"width": "100", "height": "-3"}, "height"),
    ({"width": "1e3", "height": "100"}, "width"),
    ({"width": "100", "height": "100", "format": "bmp"}, "format"),
    ({"width": "100", "height": "100", "quality": "best"}, "quality"), ({}, "width"),
])
def test_orders_are_refused_in_words(fields: dict[str, str], part: str) -> None:
    with pytest.raises(OrderError, match=part):
        order_from(fields, {"png-8": (False, True, False), "jpeg-8": (False, False, False)})
