"""Values as they are said: a number with a unit that is not the document's own."""

from __future__ import annotations

import math
import re

KNOT_M_S, FOOT_M, MILE_M = 1852.0 / 3600.0, 0.3048, 1609.344  # SI brochure; international foot

# What one of a unit is in the document's own.
UNITS: dict[str, dict[str, float]] = {
    "m": {"m": 1.0, "km": 1000.0, "ft": FOOT_M, "mi": MILE_M},
    "km": {"km": 1.0, "m": 0.001, "ft": FOOT_M * 1e-3, "mi": MILE_M * 1e-3, "nm": 1.852},
    "m/s": {"m/s": 1.0, "kn": KNOT_M_S, "kt": KNOT_M_S, "km/h": 1.0 / 3.6, "mph": MILE_M / 3600.0},
    "s": {"s": 1.0, "min": 60.0, "h": 3600.0},
    "K": {"K": 1.0},
    "°": {"°": 1.0, "deg": 1.0},
    "oktas": {"oktas": 1.0, "okta": 1.0, "%": 0.08},
    "mm": {"mm": 1.0, "cm": 10.0},
}
SAID = re.compile(r"\s*([-+−]?\d{1,9}(?:[.,]\d{1,9})?)\s*([a-zA-Z°/%]{1,6})\s*")


def value_in(text: str, unit: str) -> float | None:
    """The number in `unit` that a text such as ``20 kn`` or ``4000 ft`` says; None when it says
    none that can be brought to it."""
    found = SAID.fullmatch(text)
    if found is None:
        return None
    known, said = UNITS.get(unit, {}), found.group(2)
    factor = known.get(said, known.get(said.lower()))
    if factor is None:
        return None
    value = float(found.group(1).replace(",", ".").replace("−", "-")) * factor
    return round(value, 6) if math.isfinite(value) else None
