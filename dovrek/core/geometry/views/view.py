"""What a view is: how a frame's places become rays, and how it is asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.geometry.planet import EARTH_M
from dovrek.sky.document import Camera

Direction = NDArray[np.float64]  # (3,) unit vector: east, north, up


class Lens(NamedTuple):
    """From pixels to directions (and, for a plan, places)."""

    projection: int  # place of its view among `views.VIEWS`
    forward: Direction
    right: Direction
    up: Direction
    half_width: float  # tangent of half the angle of view; metres for a plan
    half_height: float
    centre: float  # azimuth of a dome's middle column, radians
    in_metres: bool = False  # pixels are as wide near and far
    globe: float = 0.0  # metres of the planet's radius where a plan shows its half; else 0


class Frame(NamedTuple):
    """How a view is framed beyond what the camera says."""

    aspect: float  # width over height
    centre_deg: float = 0.0  # bearing of a dome's middle
    extent_m: float = 40_000.0  # width of a plan
    planet_m: float = EARTH_M  # radius of the planet under it


class View(NamedTuple):
    """A way to look at a sky. `views.VIEWS` lists them."""

    name: str  # empty: not one that is offered
    title: str
    ray: Any  # kernel: (lens, u, v, place, ray), from a place in the frame to start and direction
    pixel: Any  # kernel: (lens, width, height) → radians of a pixel, or metres
    place: Callable[[Lens, Direction], tuple[float, float] | None]  # the inverse of `ray`
    lens: Callable[[Camera, Frame], Lens]  # its `projection` is filled in by `lens_of`
    aspect: Callable[[Camera], float]  # width over height, unless set
    width: int  # of a file, unless set
    turned: bool = False  # heading, pitch and lens of the camera turn it
    joined: bool = False  # its left and right edges meet
    from_above: bool = False  # a map seen from over all clouds

    @property
    def kind(self) -> str:
        """How a hand turns it: by the `lens`, all `around`, from `above`, or not at all."""
        if self.from_above:
            return "above"
        return "around" if self.joined else ("lens" if self.turned else "whole")


EAST, NORTH, UP = (np.eye(3)[k] for k in range(3))
