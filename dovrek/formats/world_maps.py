"""Maps of the world from picture files: grey, twice as wide as high."""

from __future__ import annotations

import base64
import io

from PIL import Image

from dovrek.core.land.world import WIDEST
from dovrek.formats.cover_maps import MapError, greys_of
from dovrek.sky.ground import MAP_BEGINS, MAP_LETTERS

OFF, NARROWEST = 0.02, 8  # of twice as wide as high; pixels


def embedded(data: bytes) -> str:
    """A picture file as the text a sky document keeps, as fine as fits. Raises MapError."""
    codes = greys_of(data, WIDEST)
    high, wide = codes.shape
    if abs(wide / high - 2.0) > OFF or wide < NARROWEST:
        raise MapError("a map of the whole world is twice as wide as high; this has "
                       f"{wide} × {high} pixels")
    size = min(wide, WIDEST) // 2 * 2
    while True:
        picture = Image.fromarray(codes, "L").resize((size, size // 2), Image.Resampling.BOX)
        buffer = io.BytesIO()
        picture.save(buffer, "PNG", optimize=True)
        text = MAP_BEGINS + base64.b64encode(buffer.getvalue()).decode()
        if len(text) <= MAP_LETTERS:
            return text
        size = size * 3 // 8 * 2
