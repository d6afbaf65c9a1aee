"""What a finished picture tells for the advisories: what burns, what exposure holds it, cover."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.curve import MIDDLE_GREY, white_from
from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.photo.likeness import likeness_of
from dovrek.core.picture.render import Metered
from dovrek.sky.advisories import BURNT_SHARE, Seen
from dovrek.sky.document import Sky
from dovrek.web.live.looks import horizon_share


def seen_in(light: NDArray[np.float32], metered: Metered, lids: dict[str, float]) -> Seen:
    """What light of a picture tells under its film; `lids` are shares of cloud at its lid."""
    stops = white_from(metered.curve, metered.contrast)
    white = MIDDLE_GREY * white_luminance(metered.ev) * 2.0**stops
    burnt = float(np.mean(light[..., 1] > white))
    over = float(np.quantile(light[..., 1], 1.0 - BURNT_SHARE)) / white
    return Seen(burnt, metered.ev + max(math.log2(max(over, 1e-9)), 0.0), lids)


def cover_by_ratio(light: NDArray[np.float32], metered: Metered,
                   sky: Sky) -> Callable[[float], float | None]:
    """Oktas of a picture by the ratio of red to blue from which a pixel is cloud."""
    shown, ends = np.asarray(develop(light, *metered), dtype=np.uint8), horizon_share(sky)
    return lru_cache(maxsize=4)(lambda ratio: likeness_of(shown, ends, ratio).cover_oktas)
