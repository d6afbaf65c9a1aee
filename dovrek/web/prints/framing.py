"""What of the sky a print will show, as a small drawing: the crop of a picture, a dome's bearings.
"""

from __future__ import annotations

import math
from typing import Any

from dovrek.core.air.sun_place import Place
from dovrek.sky.document import Sky
from dovrek.store.orders import DOME, VOLUME, Order

WIDE, TALL = 240.0, 150.0  # of the drawing, in its own units
POINTS = (("N", 0.0), ("E", 90.0), ("S", 180.0), ("W", 270.0))


def framing_of(sky: Sky, order: Order, sun: Place) -> dict[str, Any]:
    """Rectangles and marks of the drawing, by what is printed."""
    if order.kind == VOLUME:
        return {"kind": "volume", "extent": f"{order.extent_m / 1000.0:g} km",
                "wide": WIDE, "tall": TALL}
    if order.kind == DOME:
        width = WIDE

        def column(azimuth_deg: float) -> float:
            return ((azimuth_deg - order.centre) / 360.0 + 0.5) % 1.0 * width

        return {"kind": "dome", "wide": width, "tall": width / 2.0,
                "points": [(name, column(at)) for name, at in POINTS],
                "sun": (column(math.degrees(sun.azimuth)),
                        (0.5 - math.degrees(sun.elevation) / 180.0) * width / 2.0)}
    own, wanted = sky.camera.aspect, order.width / order.height
    # The lens keeps its width of view: another shape takes from above and below, or adds there.
    picture, crop = 1.0 / own, 1.0 / wanted
    scale = min(WIDE, TALL / max(picture, crop))

    def box(high: float) -> tuple[float, float, float, float]:
        return (0.5 * (WIDE - scale), 0.5 * (TALL - high * scale), scale, high * scale)

    return {"kind": "picture", "wide": WIDE, "tall": TALL, "picture": box(picture),
            "crop": box(crop), "beyond": crop > picture + 1e-3}
