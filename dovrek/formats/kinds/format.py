"""What a picture format is, and light made ready for one."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.curve import PLAIN, Curve
from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.colour.glass import CLEAR, Glass, Veil, through
from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.transport.sample import ALPHA
from dovrek.formats.bands import Banded

Bits = Literal["8", "16", "half", "float"]
Scale = Literal["exposed", "absolute"]


@dataclass(frozen=True)
class Developing:
    """How light becomes a file."""

    ev: float
    kelvins: float
    contrast: float = 1.0
    saturation: float = 1.0
    curve: Curve = PLAIN
    glass: Glass = CLEAR
    bits: Bits | None = None
    scale: Scale = "exposed"
    transparent: bool = False
    primaries: str = "rec709"  # of linear files
    veil: Veil | None = None  # stray light of the whole picture, where there is glass


@dataclass(frozen=True)
class Contents:
    """What goes into a file: bands of light, with passes if `passes`, the ids of the layers they
    hold, and what a header says further."""

    picture: Banded
    developing: Developing
    bits: Bits
    passes: bool = False
    layer_ids: list[str] = field(default_factory=list)
    header: dict[str, Any] = field(default_factory=dict)  # by attribute names of OpenEXR


class Format(NamedTuple):
    """A file format. `kinds.FORMATS` lists them."""

    name: str
    title: str
    extensions: tuple[str, ...]  # the usual one first
    bits: tuple[Bits, ...]  # the usual ones first
    linear: tuple[Bits, ...]  # of those, what holds scene light instead of developed codes
    write: Callable[[Path, Contents], list[str]]  # gives notes for the sidecar; raises OSError
    transparent: bool = False  # whether it may hold alpha
    passes: bool = False  # whether it may hold further channels


def white_of(developing: Developing) -> float:
    """Luminance of RGB (1, 1, 1) in a linear file, cd/m²."""
    return 1.0 if developing.scale == "absolute" else white_luminance(developing.ev)


def linear_rgb(light: NDArray[np.float32], developing: Developing) -> tuple[
        NDArray[np.float32], float]:
    """Scene-linear RGB in the primaries asked for and the luminance of (1, 1, 1) in cd/m²."""
    white = white_of(developing)
    rgb = light[..., :3].astype(np.float64) @ PRIMARIES[developing.primaries].from_xyz.T / white
    return rgb.astype(np.float32), white


def linear_pixels(light: NDArray[np.float32], developing: Developing) -> NDArray[np.float32]:
    """Scene-linear RGB, and alpha behind it where it is asked for."""
    rgb = linear_rgb(light, developing)[0]
    if developing.transparent:
        rgb = np.concatenate([rgb, light[..., ALPHA : ALPHA + 1]], axis=2)
    return rgb


def developed(light: NDArray[np.float32], developing: Developing, bits: int, top: int = 0
              ) -> NDArray[Any]:
    """Codes of 8 or 16 bits by the film, with alpha if asked for; `top` is the picture's row that
    the light starts with."""
    colour = light
    if developing.transparent:  # files with integer alpha keep colour apart from it
        alpha = np.maximum(light[..., ALPHA : ALPHA + 1], 1e-4)
        colour = (light[..., :3] / alpha).astype(np.float32)
    elif developing.veil is not None:
        colour = through(light, developing.glass, developing.veil, top)
    picture = develop(colour, developing.ev, developing.kelvins, developing.contrast,
                      developing.saturation, developing.curve, bits=bits, top=top)
    if not developing.transparent:
        return picture
    top = 2**bits - 1
    alpha = np.clip(light[..., ALPHA] * top + 0.5, 0, top).astype(picture.dtype)
    return np.concatenate([picture, alpha[..., None]], axis=2)
