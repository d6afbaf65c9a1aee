"""Values said in other units than the document's own."""

from __future__ import annotations

import pytest

from dovrek.sky.units import UNITS, value_in


@pytest.mark.parametrize(("text", "unit", "value"), [
    ("20 kn", "m/s", 10.288889),  # SI brochure: 1 kn = 1852/3600 m/s
    ("36km/h", "m/s", 10.0),
    ("4000 ft", "m", 1219.2),  # international foot, .3048 m
    ("1,2 km", "m", 1200.0),
    ("-3 °", "°", -3.0),
    ("25 min", "s", 1500.0),
    ("50 %", "oktas", 4.0),
])
def test_units_of_the_trade(text: str, unit: str, value: float) -> None:
    assert value_in(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(("text", "unit"), [
    ("20", "m/s"), ("20 ft", "m/s"), ("kn", "m/s"), ("1e3 m", "m"), ("", "m"), ("20 kn", ""),
    ("9" * 40 + " m", "m"),
])
def test_what_says_no_such_value_is_left(text: str, unit: str) -> None:
    assert value_in(text, unit) is None


def test_the_own_unit_is_one() -> None:
    assert all(known[unit] == 1.0 for unit, known in UNITS.items())
