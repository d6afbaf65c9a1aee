"""The short forms of the harness: odd input, many hands, power and disk taken away.

The long forms are `make fuzz`, `make soak` and `make faults`; what they promise is docs/trust.md.
"""

from __future__ import annotations

import io
import random
from pathlib import Path

import pytest

from tests.conftest import long
from tools import faults, fuzz, soak


def test_odd_requests_are_answered_in_words(tmp_path: Path) -> None:
    (line,) = fuzz.fuzz_routes(random.Random(4), 1000, tmp_path / "home")
    assert "200" in line and "422" in line and "404" in line
    assert all(getattr(module, name) > 0.0 for module, name in fuzz.WAITS)  # lent, not taken


def test_bent_files_are_read_or_refused() -> None:
    before = fuzz.taken_mb()
    lines = list(fuzz.fuzz_readers(random.Random(5), 200))
    assert len(lines) == 7 and all(" taken, " in line for line in lines)
    assert fuzz.taken_mb() - before < 300


@pytest.mark.parametrize("seconds", [10.0, long(60.0)])
def test_many_hands_at_once(seconds: float) -> None:
    found = soak.soak(8, seconds, out=io.StringIO())
    assert found["errors"] == [] and found["tracebacks"] == 0, found["log"][-4000:]
    assert {"change", "undo", "import", "strip", "page"} <= set(found["seconds"])
    assert all(row[0] > 0 for row in found["seconds"].values())
    memory = [mb for _, mb, _ in found["over_time"]]
    assert memory[-1] < 6000


def test_a_kill_loses_nothing_and_prints_end(demo_home: Path) -> None:
    assert "all stored work there" in faults.kills(1, 7, like=demo_home, slugs=["veil"])


@pytest.mark.long
@pytest.mark.parametrize("remote", [False, True])
def test_kills_lose_nothing_and_prints_end(remote: bool) -> None:
    assert "all stored work there" in faults.kills(3, 7 + remote, remote)


@pytest.mark.long
def test_a_long_queue_outlives_its_server() -> None:
    assert "nothing lost" in faults.queue(30)


def test_a_home_that_cannot_be_written(demo_home: Path) -> None:
    try:
        found = faults.read_only(demo_home, "veil")
    except OSError as error:
        pytest.skip(f"no server can be started with fewer rights here: {error}")
    assert "nothing lost" in found


@pytest.mark.long
def test_a_disk_that_fills() -> None:
    try:
        with faults.small_disk(1):
            pass
    except OSError as error:
        pytest.skip(f"a file system of its own cannot be mounted here: {error}")
    assert "nothing lost" in faults.full_disk()
