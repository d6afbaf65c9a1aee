"""Weather over a whole face of the planet as the arrangement of a layer."""

from __future__ import annotations

from dovrek.sky.parameter import Group, choice, number


class Systems(Group):
    stands: bool = choice(
        False, group="Weather systems", label="Over the whole planet",
        help="The layer as weather over a whole face of the planet, for pictures from orbit: bands "
        "by latitude, fronts that wind up, cells behind them, clear highs between. Cover is its "
        "share.",
    )
    size_km: float = number(
        2200.0, low=200.0, high=8000.0, step=100.0, unit="km", group="Weather systems",
        label="Apart", scale="log", help="From one system to the next.",
    )
    fronts: float = number(
        0.7, low=0.0, high=1.0, step=0.05, unit="", group="Weather systems", label="Fronts",
        help="How far cloud gathers in fronts that wind about lows like commas.",
    )
    bands: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Weather systems", label="Bands",
        help="How far latitude tells: cloud about the equator and at 60°, clear about 30°.",
    )
    cells: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Weather systems", label="Cells",
        help="Open cells of low cloud in the cold air behind fronts.",
    )
