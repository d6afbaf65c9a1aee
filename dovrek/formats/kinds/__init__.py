"""Picture formats: one a file. To add one, write its file after the pattern of `png` and name it in
FORMATS; command line, orders and the print dialog learn of it by themselves."""

from __future__ import annotations

from dovrek.formats.kinds import jpeg, openexr, png, radiance, tiff
from dovrek.formats.kinds.format import Bits, Format

FORMATS: tuple[Format, ...] = (png.FORMAT, jpeg.FORMAT, tiff.FORMAT, radiance.FORMAT,
                               openexr.FORMAT)
OF_EXTENSION = {extension: form for form in FORMATS for extension in form.extensions}


def printed() -> dict[str, tuple[Format, Bits]]:
    """What a print may be, by the name that an order keeps: a format and a depth."""
    return {f"{form.name}-{bits}": (form, bits) for form in FORMATS for bits in form.bits}


def holding() -> dict[str, tuple[bool, bool, bool]]:
    """Whether what a print may be holds passes, transparency, and linear light."""
    return {name: (form.passes, form.transparent, bits in form.linear)
            for name, (form, bits) in printed().items()}
