"""What of a sky is one thing with controls of its own, and no layer."""

from __future__ import annotations

from dovrek.sky.document import Air, Camera, Film, Moon, Site, Sun
from dovrek.sky.fog import Fog
from dovrek.sky.parameter import Group
from dovrek.sky.relief import Relief

THINGS: dict[str, type[Group]] = {"sun": Sun, "moon": Moon, "air": Air, "site": Site,
                                  "relief": Relief, "fog": Fog, "camera": Camera, "film": Film}
THING_NAMES = {name: name.capitalize() for name in THINGS} | {"relief": "Land"}
