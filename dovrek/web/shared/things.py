"""What of a sky is one thing with controls of its own, and no layer."""

from __future__ import annotations

from dovrek.sky.behind import Behind
from dovrek.sky.document import Air, Camera, Film, Moon, Site, Sun
from dovrek.sky.fog import Fog
from dovrek.sky.ground import Ground
from dovrek.sky.parameter import Group
from dovrek.sky.relief import Relief

THINGS: dict[str, type[Group]] = {"sun": Sun, "moon": Moon, "air": Air, "fog": Fog, "site": Site,
                                  "ground": Ground,
                                  "relief": Relief, "behind": Behind,
                                  "camera": Camera, "film": Film}
THING_NAMES = {name: name.capitalize() for name in THINGS} | {"relief": "Land",
                                                              "behind": "Picture behind"}
# Heads of the schedule: few, each with all that belongs there.
HEADS: dict[str, tuple[str, ...]] = {"sun": ("sun",), "moon": ("moon",), "air": ("air", "fog"),
                                     "site": ("site", "ground", "relief", "behind"),
                                     "camera": ("camera",), "film": ("film",)}
HEAD_NAMES = {key: THING_NAMES[key] for key in HEADS} | {"site": "Place"}
HEAD_OF = {part: head for head, parts in HEADS.items() for part in parts}
