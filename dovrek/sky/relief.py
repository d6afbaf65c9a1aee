"""The land: an invented relief that stands on the level ground."""

from __future__ import annotations

from typing import Literal

from pydantic import field_validator, model_validator

from dovrek.sky.behind import BEHIND_LETTERS
from dovrek.sky.parameter import Group, choice, number

HEIGHT_LETTERS = 1_300_000


class Relief(Group):
    form: Literal["none", "hills", "mountain", "island", "map"] = choice(
        "none", group="Land", label="Land",
        help="What stands on the level ground: hills, one mountain, or an island with a low shore, "
        "invented by its seed; or a height map of your own.",
    )
    asset: str = choice(
        "", group="Land", label="Height map", kind="map",
        help="A grey picture, north up: black the lowest, white the highest place. In a sky file: "
        "the picture itself, or the path of a PNG, TIFF or OpenEXR beside it.",
    )

    @field_validator("asset")
    @classmethod
    def _short(cls, value: str) -> str:
        if len(value) > HEIGHT_LETTERS:
            raise ValueError("a height map inside a sky is at most 640 pixels wide; give its file "
                             "instead")
        return value

    picture: str = choice(
        "", group="Land", label="Its colours", kind="map",
        help="A picture of the land from above, north up, laid over it: a photograph from the air, "
        "a map. Its colours stand in their ratios; on the whole it returns what Albedo says.",
    )

    @field_validator("picture")
    @classmethod
    def _small(cls, value: str) -> str:
        if len(value) > BEHIND_LETTERS:
            raise ValueError("a picture inside a sky is at most about 1 MB; give its file instead")
        return value

    lowest_m: float = number(
        0.0, low=0.0, high=5000.0, step=10.0, unit="m", group="Land", label="Lowest",
        help="What a map's black stands for, above the level ground; toward its border the land "
        "runs out to that.",
    )
    extent_km: float = number(
        14.0, low=2.0, high=120.0, step=1.0, unit="km", group="Land", label="Extent",
        scale="log", help="Side of the square it stands in; it runs out to the level ground at its "
        "border.",
    )
    highest_m: float = number(
        420.0, low=10.0, high=6000.0, step=10.0, unit="m", group="Land", label="Highest",
        scale="log", help="Its highest place, above the level ground.",
    )
    ruggedness: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Land", label="Ruggedness",
        help="0: worn and round. 1: ridges and gullies.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Land", label="Seed",
        help="Another seed makes another land of the same kind.",
    )
    east_km: float = number(
        0.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Its place", label="East",
        help="Its middle, east of the site.",
    )
    north_km: float = number(
        10.0, low=-150.0, high=150.0, step=0.5, unit="km", group="Its place", label="North",
        help="Its middle, north of the site.",
    )
    turn_deg: float = number(
        0.0, low=-180.0, high=180.0, step=5.0, unit="°", group="Its place", label="Turn",
        help="Turned clockwise as seen from above.",
    )
    albedo: float = number(
        0.14, low=0.0, high=0.95, step=0.01, unit="", group="Land", label="Albedo",
        help="Share of light it returns: wood 0.06, rock and heath 0.14, grass 0.2, snow 0.8. Its "
        "tint is the ground's.",
    )

    @model_validator(mode="after")
    def _above(self) -> Relief:
        if self.form == "map" and self.lowest_m >= self.highest_m:
            raise ValueError(f"lowest_m: {self.lowest_m:g} m is not below the highest place, "
                             f"{self.highest_m:g} m; lower it, or raise that")
        return self

    @property
    def stands(self) -> bool:
        """Whether there is land: a form, or a map that is at hand."""
        return self.form != "none" and (self.form != "map" or self.asset.startswith("data:"))
