"""The shelf: results that outlast their process, read whole or made anew."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run import shelf as shelves
from dovrek.core.run.cache import StageCache
from dovrek.core.run.maker import Maker
from dovrek.core.run.shelf import Shelf
from dovrek.core.run.stage import OUTLASTING, Tools, stage
from dovrek.core.run.workers import Cancel, Workers
from tests.conftest import sky_of

MADE: list[int] = []


@stage("dear", outlasts=lambda given: given["value"] > 0)
def dear(tools: Tools, value: int) -> NDArray[np.int64]:
    MADE.append(value)
    return np.arange(value + 4)


@pytest.fixture
def workers() -> Iterator[Workers]:
    MADE.clear()
    some = Workers(1)
    yield some
    some.close()


def made(folder: Path, workers: Workers, value: int) -> NDArray[np.int64]:
    """The stage's result, as a process that has just begun comes by it."""
    cache = StageCache(shelf=Shelf(folder, {"dear"}))
    maker = Maker(cache, Tools(workers, Cancel()))
    node = dear(value=value)
    found = maker.make(node)
    assert maker.holds(node)
    return found


def test_what_outlasts_is_made_once(tmp_path: Path, workers: Workers) -> None:
    first = made(tmp_path / "stages", workers, 3)
    assert MADE == [3]
    MADE.clear()
    again = made(tmp_path / "stages", workers, 3)
    assert MADE == [] and (again == first).all() and again.dtype == first.dtype
    made(tmp_path / "stages", workers, 4)
    made(tmp_path / "stages", workers, -1)  # one of its results that need not outlast
    made(tmp_path / "stages", workers, -1)
    assert MADE == [4, -1, -1]


def test_a_cache_reads_through_to_the_shelf_of_one_behind(tmp_path: Path,
                                                          workers: Workers) -> None:
    made(tmp_path, workers, 5)
    MADE.clear()
    behind = StageCache(shelf=Shelf(tmp_path, {"dear"}))
    Maker(StageCache(behind=behind), Tools(workers, Cancel())).make(dear(value=5))
    assert MADE == [] and dear(value=5).place in behind


@pytest.mark.parametrize("torn", [b"", b"\x80\x05", b"no result", None])
def test_a_torn_file_is_made_anew(tmp_path: Path, workers: Workers, torn: bytes | None) -> None:
    made(tmp_path, workers, 3)
    (path,) = tmp_path.iterdir()
    path.write_bytes(path.read_bytes()[:-9] if torn is None else torn)
    MADE.clear()
    assert made(tmp_path, workers, 3).tolist() == list(range(7)) and MADE == [3]
    MADE.clear()
    assert made(tmp_path, workers, 3).tolist() == list(range(7)) and MADE == []


def test_a_folder_that_cannot_be_written_is_done_without(tmp_path: Path,
                                                         workers: Workers) -> None:
    (tmp_path / "stages").write_text("a file is no folder")
    for _ in range(2):
        assert made(tmp_path / "stages", workers, 2).tolist() == list(range(6))
    assert MADE == [2, 2]


def test_what_was_not_asked_for_longest_goes(tmp_path: Path,
                                             monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(shelves, "FILES_KEPT", 5)
    monkeypatch.setattr(shelves, "BYTES_KEPT", 6000)
    monkeypatch.setattr(shelves, "PUTS_BETWEEN", 1)
    shelf = Shelf(tmp_path, {"dear", "other"})
    shelf.put(("other", "kept"), 1)  # each stage has room of its own
    for key in range(9):
        shelf.put(("dear", f"k{key}"), key)
        os.utime(tmp_path / f"dear.k{key}", (key, key))
        assert shelf.find(("dear", "k0")) == (True, 0)  # which makes it the newest
    left = {path.name for path in tmp_path.iterdir()}
    assert left == {"other.kept", "dear.k0", "dear.k5", "dear.k6", "dear.k7", "dear.k8"}
    shelf.put(("dear", "large"), bytes(4000))
    shelf.put(("dear", "larger"), bytes(4000))
    assert shelf.find(("dear", "larger"))[0] and not shelf.find(("dear", "large"))[0]
    assert shelf.find(("other", "kept"))[0]


@pytest.mark.parametrize(("quality", "parts", "left"), [
    ("draft", {}, {"sun table", "scattering"}),
    ("sketch", {"air": {"haze": 0.3137}, "layers": [{}, {"genus": "cirrus"}]},
     {"level", "sheet level"})])
def test_a_sky_begins_with_what_another_process_left(quality: str, parts: dict[str, Any],
                                                     left: set[str]) -> None:
    """Air and levels are read, and the picture is the same to the bit. (Of an air that is nowhere
    at hand a sketch takes a draft, as all three do here.)"""
    sky, wish = sky_of(**parts), Wish(48, 27, quality)
    first, second, cold = Studio(2), Studio(2), Studio(2)
    cold.preparer.cache = StageCache()
    try:
        light = first.render(sky, wish).light
        assert (second.render(sky, wish).light == light).all()
        assert (cold.render(sky, wish).light == light).all()
        assert left < OUTLASTING and left <= set(cold.preparer.cache.built)
        assert not left & set(second.preparer.cache.built)
        assert ("extinction" in second.preparer.cache.built) == bool(sky.layers)
    finally:
        for each in (first, second, cold):
            each.close()
