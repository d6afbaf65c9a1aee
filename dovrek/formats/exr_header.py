"""What an OpenEXR header says of a picture beside its pixels: camera, place, moment, exposure.

Names and units are those of OpenEXR's standard attributes (OpenEXR, standard attributes).
"""

from __future__ import annotations

from typing import Any

import numpy as np
import OpenEXR

from dovrek import __version__
from dovrek.core.picture.render import Metered
from dovrek.sky.document import Sky


def header_of(sky: Sky, metered: Metered, view: str = "picture") -> dict[str, Any]:
    """Attributes of a picture of a sky; a dome says how it lies, the lens its length and gate."""
    moment, site, camera = sky.local_moment(), sky.site, sky.camera
    offset = moment.utcoffset()
    said: dict[str, Any] = {
        "software": f"dovrek {__version__}",
        "latitude": float(site.latitude), "longitude": float(site.longitude),
        "altitude": float(site.elevation_m + camera.altitude_m),
        "capDate": f"{moment:%Y:%m:%d %H:%M:%S}",
        # seconds to add to local time for the universal one
        "utcOffset": -offset.total_seconds() if offset is not None else 0.0,
        "comments": (f"exposure EV {metered.ev:.2f} (ISO 100), white balance {metered.kelvins:.0f} "
                     f"K, heading {camera.heading_deg:.2f} deg, pitch {camera.pitch_deg:.2f} deg, "
                     f"roll {camera.roll_deg:.2f} deg"),
    }
    if view == "dome":
        said["envmap"] = OpenEXR.ENVMAP_LATLONG
    elif view == "picture":
        width = camera.sensor_width_mm
        said["nominalFocalLength"] = float(camera.lens_mm)
        said["sensorOverallDimensions"] = np.array([width, width / camera.aspect], np.float32)
    return said
