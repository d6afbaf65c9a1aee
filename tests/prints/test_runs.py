"""Runs of neighbours that stay with a worker."""

from __future__ import annotations

from dovrek.prints.makers.runs import Runs


def dealt(runs: Runs[int], *lanes: str) -> dict[str, list[int]]:
    """All that is left, the lanes asking in turns."""
    given: dict[str, list[int]] = {lane: [] for lane in lanes}
    while runs:
        runs.keep(lanes)
        for lane in lanes:
            if (part := runs.next(lane)) is not None:
                given[lane].append(part)
    return given


def breaks(parts: list[int]) -> int:
    """Places where a lane leaves off and goes on elsewhere."""
    return sum(b != a + 1 for a, b in zip(parts, parts[1:], strict=False))


def test_lanes_get_equal_runs_of_neighbours() -> None:
    given = dealt(Runs(range(24)), "a", "b", "c")
    assert given == {"a": [*range(8)], "b": [*range(8, 16)], "c": [*range(16, 24)]}


def test_a_lane_that_is_through_takes_half_of_what_another_has_left() -> None:
    runs = Runs(range(40))
    runs.keep(["slow", "fast"])
    given = {"slow": [runs.next("slow")], "fast": []}
    while runs:  # one that does four while the other does one
        for lane in ("fast",) * 4 + ("slow",):
            if (part := runs.next(lane)) is not None:
                given[lane].append(part)
    assert sorted(given["slow"] + given["fast"]) == [*range(40)]
    assert breaks(given["slow"]) == 0 and breaks(given["fast"]) <= 4
    assert 7 <= len(given["slow"]) <= 11  # a fifth, and the few that are not worth taking


def test_what_a_lane_had_that_went_is_done_by_the_others() -> None:
    runs = Runs(range(12))
    runs.keep(["a", "b"])
    in_hand = [runs.next("a"), runs.next("b")]
    runs.keep(["b"])
    runs.back(in_hand[0])
    assert sorted([in_hand[1], *dealt(runs, "b")["b"]]) == [*range(12)]


def test_a_lane_that_joins_late_gets_its_share() -> None:
    runs = Runs(range(10))
    runs.keep(["a"])
    first = [runs.next("a"), runs.next("a")]
    later = dealt(runs, "a", "b")
    assert first == [0, 1] and later == {"a": [2, 3, 4, 5], "b": [6, 7, 8, 9]}
    assert not runs and runs.next("a") is None
