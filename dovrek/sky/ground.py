"""What the level ground is: land, water, or both."""

from __future__ import annotations

from typing import Literal

from pydantic import field_validator

from dovrek.sky.parameter import Group, choice, number

GroundKind = Literal["land", "water", "continents", "map"]
MAP_BEGINS, MAP_LETTERS = "data:image/png;base64,", 1_400_000


class Ground(Group):
    kind: GroundKind = choice(
        "land", group="Ground", label="Ground",
        help="Land, open water, continents in a sea, or land and water by a map of the world. Its "
        "albedo, warmth and variety under Air are the land's.",
    )
    map: str = choice(
        "", group="Ground", label="World map", kind="map",
        help="A grey picture of the whole world, twice as wide as high, north up, the meridian of "
        "Greenwich in its middle: white land, black water. The site lies where its latitude and "
        "longitude say.",
    )

    @field_validator("map")
    @classmethod
    def _short(cls, value: str) -> str:
        if len(value) > MAP_LETTERS:
            raise ValueError("a map inside a sky is at most about 1 MB; give its file instead")
        return value

    @property
    def mapped(self) -> bool:
        """Whether a map that is at hand says where water is."""
        return self.kind == "map" and self.map.startswith(MAP_BEGINS)

    waves: float = number(
        5.0, low=0.0, high=20.0, step=0.5, unit="m/s", group="Ground", label="Waves",
        help="Wind over the water: more of it breaks the sun's glint and the mirrored sky up.",
    )
    land_share: float = number(
        0.3, low=0.02, high=0.98, step=0.02, unit="", group="Ground", label="Share of land",
        help="Share of the world that continents cover.",
    )
    size_km: float = number(
        2500.0, low=20.0, high=10_000.0, step=100.0, unit="km", group="Ground", label="Size",
        scale="log", help="From one continent to the next.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Ground", label="Seed",
        help="Another seed deals the continents anew.",
    )
