"""Pictures to files, whole or not at all, by the format of their extension.

Encoded files are developed by the film to sRGB. Linear files hold scene light with Rec. 709
primaries; `whiteLuminance` says how many cd/m² (1, 1, 1) is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.glass import CLEAR, veil_of
from dovrek.core.transport.passes import Passes
from dovrek.formats.bands import Banded, of_frame
from dovrek.formats.kinds import FORMATS, OF_EXTENSION
from dovrek.formats.kinds.format import Bits, Contents, Developing, Format
from dovrek.formats.whole_file import whole_file


class FormatError(ValueError):
    """A file that cannot be written as asked; the text names the mend."""


def format_of(path: Path) -> Format:
    """The format of a file by its extension. Raises FormatError naming the mend."""
    extension = path.suffix.lower()
    if extension not in OF_EXTENSION:
        raise FormatError(f"output: '{path.name}' has no known picture format; "
                          f"end it in one of {', '.join(sorted(OF_EXTENSION))}")
    return OF_EXTENSION[extension]


def bits_for(path: Path, bits: str | None, scale: str = "exposed") -> Bits:
    """The depth of a file by its extension. Raises FormatError naming the mend."""
    allowed = format_of(path).bits
    chosen = next((known for known in allowed if known == (bits or allowed[0])), None)
    if chosen is None:
        raise FormatError(f"bits: {bits} does not go into {path.suffix.lower()}; "
                          f"use {' or '.join(allowed)}")
    if scale == "absolute" and chosen != "float":
        raise FormatError("scale: absolute light needs --bits float; half files end at 65,504")
    return chosen


def _holding(what: str) -> str:
    """The usual extensions of formats that hold something."""
    return " or ".join(form.extensions[0] for form in FORMATS if getattr(form, what))


def write_picture(path: Path, light: NDArray[np.float32], developing: Developing,
                  passes: Passes | None = None, layer_ids: Sequence[str] = (),
                  header: dict[str, Any] | None = None) -> list[str]:
    """Write (h, w, 5) light to a file; returns notes for the sidecar. Raises OSError, FormatError.

    `passes`, with the ids of the layers they hold, go beside the beauty where the format can.
    `header` is said further where the format can: attributes of OpenEXR.
    """
    return write_bands(path, of_frame(light, passes), developing, passes is not None, layer_ids,
                       header)


def write_bands(path: Path, picture: Banded, developing: Developing, passes: bool = False,
                layer_ids: Sequence[str] = (), header: dict[str, Any] | None = None) -> list[str]:
    """As `write_picture`, band after band."""
    bits = bits_for(path, developing.bits, developing.scale)
    form, extension = format_of(path), path.suffix.lower()
    if developing.transparent and not form.transparent:
        raise FormatError(f"ground: {extension} holds no transparency; use "
                          f"{_holding('transparent')}")
    if passes and not form.passes:
        raise FormatError(f"passes: {extension} holds no further channels; use "
                          f"{_holding('passes')}")
    if developing.glass != CLEAR and bits not in form.linear and not developing.transparent:
        developing = replace(developing, veil=veil_of(
            ((band.top, band.light) for band in picture.bands()), picture.height, picture.width))
    with whole_file(path) as part:
        return form.write(part, Contents(picture, developing, bits, passes, list(layer_ids),
                                         header or {}))


def mean_luminance(light: NDArray[np.float32]) -> float:
    """Mean luminance of a frame, cd/m²."""
    return float(light[..., 1].mean(dtype=np.float64))

