"""What kinds of sheet share: a frame of a change, and what a kind says of itself."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.layer import Layer
from dovrek.web.live.boards import Frame

SHEET_COUNT = 12


@dataclass(frozen=True)
class Sheet:
    """A kind of contact sheet: its frames, its title (`{}` is what it is of), and the words of its
    buttons; without a word there is no such button."""

    frames: Callable[[Sky, Layer | None], list[Frame | None]]
    title: str
    of_sky: str = ""
    of_layer: str = ""
    tip: str = ""


def frame_of(sky: Sky, label: str, note: str, alter: Callable[[Sky], Sky]) -> Frame | None:
    """A frame of what a change leads to; None when the sky refuses it."""
    try:
        led = alter(sky)
    except SkyError:
        return None
    return Frame(label, led, alter, note, chosen=led == sky)


def setting(values: dict[str, Any]) -> Callable[[Sky], Sky]:
    """The change that sets values by their paths."""
    return lambda sky: with_values(sky, values)
