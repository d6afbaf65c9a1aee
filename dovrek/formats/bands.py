"""A picture that is written band after band, so that a large one never lies whole in memory."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.transport.passes import Passes

ROWS = 128  # of a band of a picture that is whole


class Band(NamedTuple):
    """Some whole rows of a picture, from the top on: (n, w, 5) light, and its passes if any."""

    light: NDArray[np.float32]
    top: int  # the row of the picture it starts with
    passes: Passes | None = None


@dataclass(frozen=True)
class Banded:
    """A picture by its bands, which can be gone through as often as needed."""

    height: int
    width: int
    bands: Callable[[], Iterator[Band]]


def of_frame(light: NDArray[np.float32], passes: Passes | None = None) -> Banded:
    """The bands of a picture that is whole."""
    height, width = light.shape[:2]

    def bands() -> Iterator[Band]:
        for y in range(0, height, ROWS):
            yield Band(light[y : y + ROWS], y, rows_of(passes, slice(y, y + ROWS)))

    return Banded(height, width, bands)


def rows_of(passes: Passes | None, rows: slice) -> Passes | None:
    """Some rows of passes."""
    if passes is None:
        return None
    parts = {f.name: getattr(passes, f.name) for f in fields(Passes)}
    return Passes(**{name: values[:, rows] if name == "mattes" else values[rows]
                     for name, values in parts.items()})
