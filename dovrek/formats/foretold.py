"""How large a file will be, from pieces of its picture that are written and measured."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from dovrek.core.picture.forecast import Forecast
from dovrek.core.picture.studio import Wish
from dovrek.core.transport.passes import PASSES
from dovrek.formats.kinds.format import Bits, Developing
from dovrek.formats.pictures import write_picture

FULL = 0.5  # share of the passes that is not empty (measured)


def picture_bytes(found: Forecast, wish: Wish, name: Path, bits: Bits) -> float:
    """Bytes of a picture file of a name's ending and a depth."""
    sheet = np.concatenate(found.pieces, axis=0)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name.name
        write_picture(path, sheet, Developing(*found.metered, bits))
        share = path.stat().st_size / (sheet.shape[0] * sheet.shape[1])
    if wish.passes:
        share *= 1.0 + PASSES / 3.0 * FULL
    return share * wish.width * wish.height
