"""Heroes: single clouds of a heaped layer that are placed by hand."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict, Field, field_validator

from dovrek.sky.parameter import Group, choice, colour_of, number
from dovrek.sky.wash import Wash

HEROES_MOST = 64  # a sky
WASHES_MOST = 8  # of their own, that heroes of a sky have: each is lit as a layer of its own
CLIMBS_LEAST, CLIMBS_POWER = 0.06, 1.3  # of its height, that one of no growth has


class Taken(BaseModel):
    """The dealt cloud that a hero was: what tells its form, and where it stood and stands no
    more, metres east and north of the site."""

    model_config = ConfigDict(extra="forbid", frozen=True)
    form: int = Field(ge=0, le=63)
    aspect: float = Field(gt=0.0, le=20.0)  # height over radius that its form was made at
    east_m: float = Field(ge=-1e6, le=1e6)
    north_m: float = Field(ge=-1e6, le=1e6)


class Hero(Group):
    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]+$")
    taken: Taken | None = None
    name: str = choice("", group="Hero", label="Name", help="Shown in its list and at its mark.")
    east_m: float = number(
        0.0, low=-150_000.0, high=150_000.0, step=50.0, unit="m", group="Its place", label="East",
        help="Its axis, east of the site.",
    )
    north_m: float = number(
        6000.0, low=-150_000.0, high=150_000.0, step=50.0, unit="m", group="Its place",
        label="North", help="Its axis, north of the site.",
    )
    width_m: float = number(
        1800.0, low=150.0, high=25_000.0, step=50.0, unit="m", group="Hero", label="Width",
        scale="log", help="From side to side, where it is widest.",
    )
    height_m: float = number(
        1400.0, low=50.0, high=16_000.0, step=50.0, unit="m", group="Hero", label="Height",
        scale="log", help="From the layer's base to its top when it is grown.",
    )
    growth: float = number(
        1.0, low=0.0, high=1.0, step=0.05, unit="", group="Hero", label="Growth",
        help="How far it has grown up to its height: 0.15 flat, 1 all of it.",
    )
    anvil: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Hero", label="Anvil",
        help="How far its top spreads out, as under the tropopause (incus).",
    )
    seed: int = number(
        1, low=0, high=2_000_003, step=1, unit="", group="Hero", label="Seed",
        help="Another seed makes another cloud of its size.",
    )
    turn_deg: float = number(
        0.0, low=-180.0, high=180.0, step=5.0, unit="°", group="Its place", label="Turn",
        help="Turned about its axis, clockwise as seen from above.",
    )
    stage: float = number(
        0.5, low=0.0, high=1.0, step=0.02, unit="", group="Hero", label="Stage of life",
        help="0 not yet there, 0.5 full grown, 1 gone; it goes by its layer's ending.",
    )
    density: float = number(
        1.0, low=0.05, high=4.0, step=0.05, unit="×", group="Hero", label="Density",
        scale="log", help="Over that of its layer.",
    )
    clear_m: float = number(
        0.0, low=0.0, high=30_000.0, step=100.0, unit="m", group="Its place", label="Cleared",
        help="Distance from its rim up to which the layer's other clouds make room.",
    )

    wash: float | None = number(
        None, low=0.0, high=1.0, step=0.05, unit="", group="Its wash", label="Wash",
        derived="of its layer", help="How strongly colours of its own are laid over its light; "
        "unless set, its layer's are.",
    )
    wash_lit: str = choice("#ffd9b0", group="Its wash", label="Lit side", kind="colour",
                           help="Colour of what the sun lights.")
    wash_body: str = choice("#c9cede", group="Its wash", label="Body", kind="colour",
                            help="Colour of what the sky lights.")
    wash_base: str = choice("#8e93a8", group="Its wash", label="Base", kind="colour",
                            help="Colour of what the ground lights.")

    @field_validator("wash_lit", "wash_body", "wash_base")
    @classmethod
    def _colour(cls, value: str) -> str:
        return colour_of(value)

    def washed(self, wash: Wash) -> Wash:
        """Its wash in a layer that has this one: where tones begin and how they meet is the
        layer's."""
        if self.wash is None:
            return wash
        return wash.model_copy(update={"strength": self.wash, "lit": self.wash_lit,
                                       "body": self.wash_body, "base": self.wash_base})

    @property
    def title(self) -> str:
        """What it is called."""
        return self.name or self.id.replace("hero-", "Cloud ")

    @property
    def top_m(self) -> float:
        """Metres from the base to its top."""
        return self.height_m * (CLIMBS_LEAST + (1.0 - CLIMBS_LEAST) * self.growth**CLIMBS_POWER)
