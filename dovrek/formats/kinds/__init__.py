"""Picture formats: one a file. To add one, write its file after the pattern of `png` and name it in
FORMATS; command line, orders and the print dialog learn of it by themselves."""

from __future__ import annotations

from dovrek.formats.kinds import jpeg, openexr, png, radiance, tiff
from dovrek.formats.kinds.format import Bits, Format

FORMATS: tuple[Format, ...] = (png.FORMAT, jpeg.FORMAT, tiff.FORMAT, radiance.FORMAT,
                               openexr.FORMAT)
OF_EXTENSION = {extension: form for form in FORMATS for extension in form.extensions}


def printed() -> dict[str, tuple[Format, Bits]]:
    """What a print may be, by the name that an order keeps: a format and a depth. The pages show
    developed codes and OpenEXR."""
    return {f"{form.name}-{bits}": (form, bits) for form in FORMATS for bits in form.bits
            if bits not in form.linear or form is openexr.FORMAT}


def holding() -> dict[str, tuple[bool, bool]]:
    """Whether what a print may be holds passes, and transparency."""
    return {name: (form.passes, form.transparent) for name, (form, _) in printed().items()}
