"""How the film answers to the light of the picture: its curve over the picture's stops."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.curve import codes_of, curve_of
from dovrek.core.colour.film import ISO_CONSTANT
from dovrek.sky.document import Film

LEAST, MOST = -8.0, 6.0  # stops from middle grey, from left to right
WIDTH, HEIGHT = 280.0, 90.0
BINS = 56
MARKS = (-6, -4, -2, 0, 2, 4)


class Answer(NamedTuple):
    """Paths of a drawing WIDTH wide and HEIGHT high, and what it says."""

    line: str
    light: str  # how much of the picture lies at each stop; empty before there is one
    marks: list[tuple[float, int]]
    said: str


def x_of(stops: float) -> float:
    return WIDTH * (stops - LEAST) / (MOST - LEAST)


def answer_of(film: Film, light: NDArray[np.float32] | None, ev: float) -> Answer:
    """The drawing for a film, over the luminances of a picture exposed so."""
    stops = np.linspace(LEAST, MOST, 97)
    codes = codes_of(stops, curve_of(film), film.contrast)
    line = "M" + "L".join(f"{x_of(s):.1f} {HEIGHT * (1.0 - c):.1f}"
                          for s, c in zip(stops.tolist(), codes.tolist(), strict=True))
    marks = [(x_of(s), s) for s in MARKS]
    if light is None:
        return Answer(line, "", marks, "")
    found = np.log2(np.maximum(light[..., 1].astype(float), 1e-9) / (2.0**ev * ISO_CONSTANT))
    counts, _ = np.histogram(np.clip(found, LEAST, MOST - 1e-6), BINS, (LEAST, MOST))
    high = HEIGHT * np.sqrt(counts / max(counts.max(), 1))  # by roots, so that little is seen too
    step = WIDTH / BINS
    body = "".join(f"V{HEIGHT - h:.1f}H{step * (k + 1):.1f}" for k, h in enumerate(high.tolist()))
    low, middle, top = np.percentile(found, (1.0, 50.0, 99.0))
    return Answer(line, f"M0 {HEIGHT:g}{body}V{HEIGHT:g}Z", marks,
                  f"darkest {low:+.1f}, half {middle:+.1f}, brightest {top:+.1f} stops")


def of_session(film: Film, session: Any) -> Answer:
    """The drawing for a film over the picture that a window shows, if there is one."""
    if session is None or session.light is None or session.metered is None:
        return answer_of(film, None, 0.0)
    return answer_of(film, session.light, session.metered.set_by(film).ev)
