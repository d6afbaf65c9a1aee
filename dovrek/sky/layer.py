"""A cloud layer: one genus between a base and a top."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from dovrek.sky.cyclone import Cyclone
from dovrek.sky.genera import (
    CELLS,
    FEATURES,
    GENUS_DEFAULTS,
    HEAPS,
    SHEETS,
    SPECIES,
    VARIETIES,
    VEILS,
    defaults_of,
    merge_defaults,
)
from dovrek.sky.hero import HEROES_MOST, Hero
from dovrek.sky.keeping import Bounds, Drape, Region
from dovrek.sky.parameter import Group, choice, curve, number, words
from dovrek.sky.wash import Wash
from dovrek.sky.weather_systems import Systems

Genus = Literal["cumulus", "cumulonimbus", "stratocumulus", "stratus", "nimbostratus",
                "altocumulus", "altostratus", "cirrus", "cirrocumulus", "cirrostratus"]
Species = Literal["", "humilis", "mediocris", "congestus", "fractus", "calvus", "capillatus",
                  "stratiformis", "nebulosus", "lenticularis", "castellanus", "floccus",
                  "fibratus", "uncinus", "spissatus"]
Variety = Literal["undulatus", "radiatus", "perlucidus", "translucidus", "opacus", "lacunosus"]
Feature = Literal["incus", "virga", "praecipitatio"]
Ending = Literal["evaporates", "tears", "subsides"]
Crystal = Literal["rough", "columns"]
PROFILE_POINTS = 9
NAME_LETTERS = 120
MAP_PREFIX = "data:image/png;base64,"  # how a cover map inside a document begins
MAP_LETTERS = 120_000


class Cells(Group):
    size_m: float = number(
        1500.0, low=200.0, high=20000.0, step=50.0, unit="m", group="Cells", label="Size",
        scale="log", help="Distance from one cloud (or lump, or tuft) to the next: larger "
        "gives fewer, bigger clouds.",
    )
    spread: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cells", label="Spread",
        genera=HEAPS + CELLS,
        help="How unequal the clouds are: 0 all alike, 1 giants among scraps.",
    )
    huddle: float = number(
        0.35, low=0.0, high=1.0, step=0.05, unit="", group="Cells", label="Huddle",
        genera=HEAPS + CELLS,
        help="How far neighbouring clouds are drawn together into groups.",
    )


class Clearings(Group):
    share: float = number(
        0.0, low=0.0, high=0.9, step=0.05, unit="", group="Cover", label="Clearings",
        help="Share of the sky kept as large openings without cloud of this layer; the cover "
        "stays as set and gathers between them.",
    )
    size_km: float = number(
        14.0, low=2.0, high=120.0, step=1.0, unit="km", group="Cover", label="their size",
        scale="log", help="Distance from one clearing to the next.",
    )
    edge: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Cover", label="their edge",
        help="How gradually the clouds thin out toward a clearing: 0 abrupt, 1 gradual.",
    )
    seed: int = number(
        0, low=0, high=999999, step=1, unit="", group="Cover", label="their seed",
        help="Another seed puts the clearings elsewhere and leaves the cells alone.",
    )


class CoverMap(Group):
    asset: str = choice(
        "", group="Cover map", label="Map", kind="map",
        help="A grey picture, north up, that says where the layer stands: white cloud, black "
        "none. In a sky file: the picture itself, or the path of a PNG or TIFF beside it.",
    )
    @field_validator("asset")
    @classmethod
    def _short(cls, value: str) -> str:
        if len(value) > MAP_LETTERS:
            raise ValueError("a map inside a sky is at most 256 pixels wide; give its file instead")
        return value

    extent_km: float = number(
        40.0, low=2.0, high=600.0, step=5.0, unit="km", group="Cover map", label="Extent",
        scale="log", help="Width of the map on the ground, centred below the camera; its border "
        "goes on outside.",
    )
    rotation_deg: float = number(
        0.0, low=-180.0, high=180.0, step=5.0, unit="°", group="Cover map", label="Rotation",
        help="Turn of the map, clockwise as seen from above.",
    )
    strength: float = number(
        1.0, low=0.0, high=1.0, step=0.05, unit="", group="Cover map", label="Strength",
        help="How far the map decides: 0 not at all, 1 black is free of cloud.",
    )
    invert: bool = choice(
        False, group="Cover map", label="Invert", help="Black stands for cloud.",
    )
    black: float | None = number(
        None, low=0.0, high=1.0, step=0.02, unit="", group="Cover map", label="Black",
        derived="by the map", help="Grey value from which there is cloud.",
    )
    white: float | None = number(
        None, low=0.0, high=1.0, step=0.02, unit="", group="Cover map", label="White",
        derived="by the map", help="Grey value at which the cover is whole.",
    )


class Rows(Group):
    share: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Rows", label="Rows",
        help="How far the clouds are gathered into parallel bands: streets of heaps, waves of a "
        "sheet.",
    )
    spacing_km: float | None = number(
        None, low=0.2, high=60.0, step=0.5, unit="km", group="Rows", label="Spacing",
        scale="log", derived="by the cells", help="From one row to the next.",
    )
    bearing_deg: float | None = number(
        None, low=0.0, high=180.0, step=5.0, unit="°", group="Rows", label="Bearing",
        derived="by the wind", help="Bearing the rows run along. By the wind: heaps stand in "
        "streets along it, sheets lie in waves across it.",
    )
    patchiness: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Rows", label="Patchiness",
        help="0: rows everywhere; 1: only here and there.",
    )


class Body(Group):
    density_per_km: float = number(
        30.0, low=0.05, high=200.0, step=1.0, unit="/km", group="Body", label="Density",
        scale="log", help="Extinction inside the cloud: how quickly light is scattered on its "
        "way through. Thick water cloud 30 to 100, ice about 1.",
    )
    growth: float = number(
        1.0, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Growth",
        genera=HEAPS, help="How far heaps grow up through the layer: 0.15 flat (humilis), 0.4 "
        "as high as wide (mediocris), 0.8 towers (congestus), 1 as high as the layer.",
    )
    growth_spread: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="its spread",
        genera=HEAPS, help="How unequal the growth is from cloud to cloud: at 1 one line holds "
        "everything from flat heaps to the highest towers.",
    )
    anvil: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Anvil",
        genera=HEAPS, help="How far the highest towers spread out below the layer's top, as "
        "under the tropopause (incus).",
    )
    base_flatness: float = number(
        0.7, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Base flatness",
        genera=HEAPS + CELLS + SHEETS,
        help="1: a base as level as a table; 0: rounded or ragged from below.",
    )
    profile: list[tuple[float, float]] = curve(
        [], points=PROFILE_POINTS, group="Body", label="Profile",
        help="Density by height: from the base at the left to the top at the right, as shares of "
        "the layer's density. Empty: as the genus has it.",
    )
    lobes: float = number(
        0.5, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Lobes",
        help="How strongly the surface swells into rounded lumps; of cirrus, how far it gathers "
        "into tufts with hooks.",
    )
    fray: float = number(
        0.3, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Fray",
        help="How far edges are eaten away into shreds and wisps.",
    )
    curl: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Body", label="Curl",
        help="How far edges and strands are swirled.",
    )
    @field_validator("profile")
    @classmethod
    def _rising(cls, value: list[tuple[float, float]]) -> list[tuple[float, float]]:
        if len(value) == 1:
            raise ValueError("a curve needs two points or more, or none")
        if any(not (0.0 <= h <= 1.0 and 0.0 <= d <= 1.0) for h, d in value):
            raise ValueError("heights and densities of a profile go from 0 to 1")
        if any(b[0] <= a[0] for a, b in zip(value, value[1:], strict=False)):
            raise ValueError("heights of a profile must rise from point to point")
        return value

    edge_m: float = number(
        40.0, low=4.0, high=500.0, step=2.0, unit="m", group="Body", label="Edge",
        scale="log", help="Distance over which the cloud grows from clear air to full density: "
        "small is crisp.",
    )


class Life(Group):
    stage: float = number(
        0.5, low=0.0, high=1.0, step=0.02, unit="", group="Life", label="Stage",
        help="0 not yet there, 0.5 full grown, 1 gone. The clouds stay where they are.",
    )
    spread: float = number(
        0.2, low=0.0, high=1.0, step=0.05, unit="", group="Life", label="Spread",
        help="How far the clouds, or the parts of a sheet, are apart in their stages.",
    )
    early_decay: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Life", label="Early decay",
        genera=HEAPS, help="Share of the clouds that fall apart before they are grown.",
    )
    ending: Ending = choice(
        "evaporates", group="Life", label="Ending",
        help="How the clouds go: they evaporate (thin out), tear into shreds, or subside into "
        "flat remains.",
    )
    cycle_s: float = number(
        1500.0, low=0.0, high=36000.0, step=60.0, unit="s", group="Life", label="Lifetime",
        genera=HEAPS, help="Seconds of the sky from the birth of a cloud to its end in the clip, "
        "where another then takes its place; fair-weather heaps live 10 to 40 minutes. 0, or no "
        "churn: the clouds stay.",
    )


class Fall(Group):
    amount: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Fall", label="Rain haze",
        genera=HEAPS + CELLS + SHEETS,
        help="How thick the veil of rain or snow below the cloud is.",
    )
    reach: float = number(
        0.5, low=0.05, high=1.0, step=0.05, unit="", group="Fall", label="Reach",
        genera=HEAPS + CELLS + SHEETS,
        help="How far it falls before it is gone, as a share of the way to the ground: virga "
        "ends above it, at 1 rain reaches it.",
    )


class Wind(Group):
    from_deg: float = number(
        250.0, low=0.0, high=360.0, step=5.0, unit="°", group="Wind", label="From",
        help="Bearing the wind blows from, clockwise from north.",
    )
    comb: float = number(
        0.4, low=0.0, high=1.0, step=0.05, unit="", group="Wind", label="Comb",
        genera=CELLS + SHEETS + VEILS,
        help="How far the cloud is drawn out along the wind.",
    )
    slant: float = number(
        0.0, low=-1.5, high=1.5, step=0.05, unit="m/m", group="Wind", label="Slant",
        help="How far the cloud leans with the wind for every metre up: above 0 the tops run "
        "ahead of the base.",
    )
    speed_m_s: float | None = number(
        None, low=0.0, high=120.0, step=1.0, unit="m/s", group="Wind", label="Speed",
        derived="by height", help="How fast the layer drifts in the clip. By height: 4 m/s at the "
        "ground and 2 m/s more for every kilometre; lenses stand still.",
    )


class Churn(Group):
    rate: float = number(
        1.0, low=0.0, high=10.0, step=0.1, unit="×", group="Churn", label="Churn",
        help="How fast the layer's own shape changes in the clip, over what is natural: heaps boil "
        "upward, sheets rework themselves, veils stream. 0: it only drifts.",
    )
    period_s: float = number(
        3600.0, low=60.0, high=86400.0, step=60.0, unit="s", group="Churn", label="Churn period",
        scale="log", help="Seconds of the sky after which the change of shape repeats.",
    )


class Light(Group):
    droplet_radius_um: float = number(
        10.0, low=3.0, high=30.0, step=1.0, unit="µm", group="Light", label="Droplets",
        scale="log", genera=HEAPS + CELLS + SHEETS,
        help="Radius of the droplets: larger ones throw more light straight ahead, which makes "
        "edges toward the sun narrower and brighter.",
    )
    crystal: Crystal = choice(
        "rough", group="Light", label="Crystals", genera=VEILS,
        help="Ice: rough crystals of many forms, or clean columns that turn light less.",
    )
    halo: float = number(
        0.0, low=0.0, high=1.0, step=0.05, unit="", group="Light", label="Halo",
        genera=VEILS, help="Strength of the ring of 22° that clear crystals draw around the sun.",
    )


class Layer(Group):
    """One genus of cloud between a base and a top. Omitted keys take the genus's defaults."""

    id: str = Field("", max_length=40, pattern=r"^[A-Za-z0-9_-]*$")
    name: str = choice("", group="Layer", label="Name", help="Shown on the band in the section.")
    genus: Genus = choice(
        "cumulus", group="Layer", label="Genus",
        help="The WMO genus: what family of cloud the layer is.",
    )
    species: Species = choice(
        "", group="Layer", label="Species",
        help="The WMO species: its form. Choosing one sets the controls that make it.",
    )
    varieties: list[Variety] = words(
        group="Layer", label="Varieties",
        help="WMO varieties: arrangement and transparency. Choosing one sets its controls.",
    )
    features: list[Feature] = words(
        group="Layer", label="Features",
        help="WMO supplementary features: anvil and falling rain. Choosing one sets its controls.",
    )
    visible: bool = choice(
        True, group="Layer", label="Shown",
        help="A hidden layer neither shows nor casts shadow.",
    )
    locked: bool = choice(
        False, group="Layer", label="Locked",
        help="A locked layer refuses every change until it is unlocked.",
    )
    frozen: int | None = Field(
        None, ge=0, le=999999, title="Frozen",
        description="Seed of the sky that a frozen layer was dealt by; it keeps its composition "
        "whatever else is dealt anew.",
    )
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Layer", label="Seed",
        help="Another seed deals the cells anew.",
    )
    base_m: float = number(
        1200.0, low=30.0, high=16000.0, step=50.0, unit="m", group="Height", label="Base",
        scale="log", help="Height of the cloud base above sea level.",
    )
    thickness_m: float = number(
        600.0, low=10.0, high=15000.0, step=50.0, unit="m", group="Height", label="Thickness",
        scale="log", help="From the base to the highest top the layer reaches.",
    )
    cover_oktas: float = number(
        4.0, low=0.0, high=8.0, step=0.25, unit="oktas", group="Cover", label="Cover",
        help="Eighths of the sky this layer hides. Changing it never moves the clouds.",
    )
    clearings: Clearings = Field(default_factory=lambda: Clearings())
    region: Region = Field(default_factory=lambda: Region())
    bounds: Bounds = Field(default_factory=lambda: Bounds())
    cyclone: Cyclone = Field(default_factory=lambda: Cyclone())
    systems: Systems = Field(default_factory=lambda: Systems())
    heroes: list[Hero] = Field(default_factory=list, max_length=HEROES_MOST)
    drape: Drape = Field(default_factory=lambda: Drape())
    map: CoverMap = Field(default_factory=lambda: CoverMap())
    cells: Cells = Field(default_factory=lambda: Cells())
    rows: Rows = Field(default_factory=lambda: Rows())
    body: Body = Field(default_factory=lambda: Body())
    life: Life = Field(default_factory=lambda: Life())
    fall: Fall = Field(default_factory=lambda: Fall())
    wind: Wind = Field(default_factory=lambda: Wind())
    churn: Churn = Field(default_factory=lambda: Churn())
    light: Light = Field(default_factory=lambda: Light())
    wash: Wash = Field(default_factory=lambda: Wash())

    @property
    def top_m(self) -> float:
        return self.base_m + self.thickness_m

    @model_validator(mode="before")
    @classmethod
    def _genus_defaults(cls, given: Any) -> Any:
        """Fill omitted keys from genus, species, varieties and features, so that a bare genus is
        a believable layer."""
        if not isinstance(given, dict):
            return given
        return merge_defaults(given, defaults_of(
            given.get("genus", "cumulus"), given.get("species", ""), given.get("varieties", []),
            given.get("features", [])))

    @model_validator(mode="after")
    def _words_fit(self) -> Layer:
        """Refuse species, varieties and features that the genus does not have."""
        for name, chosen, known in (
            ("species", [self.species] if self.species else [], SPECIES),
            ("varieties", self.varieties, VARIETIES), ("features", self.features, FEATURES),
        ):
            for word in chosen:
                if word not in known[self.genus]:
                    can = ", ".join(known[self.genus]) or "none"
                    raise ValueError(f"{name}: {self.genus} has no {word}; it can have: {can}")
        return self

    @model_validator(mode="after")
    def _heroes_fit(self) -> Layer:
        """Refuse heroes of what is no heap, and two of one name."""
        if self.heroes and self.genus not in HEAPS:
            raise ValueError(f"heroes: {self.genus} has none; place them in a layer of "
                             f"{' or '.join(HEAPS)}")
        names = [hero.id for hero in self.heroes]
        if len(set(names)) != len(names):
            raise ValueError("heroes: two share an id; give each one of its own")
        return self

    @field_validator("name")
    @classmethod
    def _short_name(cls, value: str) -> str:
        if len(value) > NAME_LETTERS or not value.isprintable():
            raise ValueError("a layer's name is one line of printable characters; write at most "
                             f"{NAME_LETTERS}")
        return value

    @field_validator("varieties", "features")
    @classmethod
    def _once(cls, value: list[str]) -> list[str]:
        return sorted(set(value))


__all__ = ["GENUS_DEFAULTS", "MAP_PREFIX", "Layer", "merge_defaults"]
