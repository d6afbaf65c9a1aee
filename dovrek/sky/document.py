"""The sky document: site, moment, sun, air, layers, camera and film."""

from __future__ import annotations

import math
import zoneinfo
from datetime import UTC, datetime
from typing import Any, Literal

from pydantic import Field, field_validator, model_validator

from dovrek.sky.behind import Behind
from dovrek.sky.fog import Fog
from dovrek.sky.ground import Ground
from dovrek.sky.hero import HEROES_MOST, WASHES_MOST, Hero
from dovrek.sky.layer import Layer
from dovrek.sky.motion import Keys, Motion
from dovrek.sky.parameter import Group, choice, colour_of, number, parameter_at
from dovrek.sky.relief import Relief

FORMAT_VERSION = 1
KEYED = ("number", "integer", "colour", "switch")  # kinds of control that keys can move
NOT_KEYED = ("seed", "dovrek")
LAYER_LIMIT = 16
YEARS = (1900, 2100)


class Site(Group):
    latitude: float = number(
        53.4, low=-90.0, high=90.0, step=0.1, unit="°", group="Site", label="Latitude",
        help="North positive.",
    )
    longitude: float = number(
        -0.2, low=-180.0, high=180.0, step=0.1, unit="°", group="Site", label="Longitude",
        help="East positive.",
    )
    elevation_m: float = number(
        4.0, low=0.0, high=6000.0, step=10.0, unit="m", group="Site", label="Ground",
        help="Height of the ground above sea level; the air is thinner at a high site.",
    )
    timezone: str = choice(
        "Europe/London", group="Site", label="Time zone",
        help="Zone of the site's clock, an IANA name such as Europe/London.",
    )

    @field_validator("timezone")
    @classmethod
    def _known_zone(cls, value: str) -> str:
        try:
            zoneinfo.ZoneInfo(value)
        except (zoneinfo.ZoneInfoNotFoundError, ValueError, OSError):
            raise ValueError("unknown time zone; use an IANA name such as Europe/London") from None
        return value


class Sun(Group):
    mode: Literal["clock", "free"] = choice(
        "clock", group="Sun", label="Tied to",
        help="clock: the sun stands where site and moment put it. free: you place it.",
    )
    elevation_deg: float = number(
        35.0, low=-90.0, high=90.0, step=0.5, unit="°", group="Sun", label="Height",
        help="Apparent height above the horizon, when the sun is free.",
    )
    azimuth_deg: float = number(
        180.0, low=0.0, high=360.0, step=1.0, unit="°", group="Sun", label="Bearing",
        help="Clockwise from north, when the sun is free.",
    )
    diameter_deg: float = number(
        0.533, low=0.1, high=5.0, step=0.05, unit="°", group="Sun", label="Diameter",
        scale="log", help="Width of the sun's disc; its light stays the same in all.",
    )
    strength: float = number(
        1.0, low=0.01, high=100.0, step=0.1, unit="×", group="Sun", label="Strength",
        scale="log", help="Factor on the sun's light before the air: 1 is the real sun.",
    )
    tint: str = choice(
        "#ffffff", group="Sun", label="Tint", kind="colour",
        help="Colour of the sun's light before the air; white is the real sun.",
    )

    @field_validator("tint")
    @classmethod
    def _colour(cls, value: str) -> str:
        return colour_of(value)


class Moon(Group):
    visible: bool = choice(
        True, group="Moon", label="Shown",
        help="The moon of site and moment, with its phase; it lights the sky once the sun is "
        "well down.",
    )
    strength: float = number(
        1.0, low=0.1, high=1000.0, step=0.5, unit="×", group="Moon", label="Strength",
        scale="log", help="Factor on the moon's light: 1 is the real moon.",
    )


class Air(Group):
    haze: float = number(
        0.1, low=0.0, high=2.0, step=0.01, unit="", group="Air", label="Haze",
        help="Aerosol optical depth at 550 nm: 0.05 crisp, 0.1 clear, 0.3 hazy, 1 thick.",
    )
    haze_height_m: float = number(
        1500.0, low=200.0, high=5000.0, step=100.0, unit="m", group="Air", label="Haze height",
        scale="log", help="Height over which the haze thins out to about a third.",
    )
    ozone_du: float = number(
        300.0, low=0.0, high=600.0, step=10.0, unit="DU", group="Air", label="Ozone",
        help="Ozone column: deepens the blue of the zenith at dusk.",
    )
    ground_albedo: float = number(
        0.18, low=0.0, high=0.95, step=0.01, unit="", group="Air", label="Ground albedo",
        help="Share of light the ground returns: sea 0.06, grass 0.2, sand 0.35, snow 0.8.",
    )
    ground_warmth: float = number(
        0.25, low=-0.6, high=0.9, step=0.05, unit="", group="Air", label="Ground warmth",
        help="Tint of the ground's return: below 0 cool like wet slate, above 0 warm like "
        "soil and dry grass.",
    )
    ground_variety: float = number(
        0.3, low=0.0, high=1.0, step=0.05, unit="", group="Air", label="Ground variety",
        help="How its tone differs from place to place, fields and tracks, wet and dry: 0 even.",
    )
    planet_radius_km: float = number(
        6371.0, low=10.0, high=63_710.0, step=10.0, unit="km", group="Planet", label="Radius",
        scale="log", help="Of the planet; the earth's is 6371 km. Air and layers keep their "
        "heights.",
    )
    depth: float = number(
        1.0, low=0.2, high=2.0, step=0.05, unit="×", group="Planet", label="Air depth",
        scale="log", help="Height over which air and ozone thin out, times the earth's; as much "
        "of them stands over the ground. Shallow air suits a small planet seen from space.",
    )
    shadow_rays: bool = choice(
        False, group="Air", label="Shadow rays",
        help="Clouds and land cast their shadows through the haze: beams and dark rays below "
        "clouds, the dusk of a valley, most in thick haze toward the sun. Takes longer.",
    )

    @property
    def planet_m(self) -> float:
        """Radius of the planet, metres."""
        return 1e3 * self.planet_radius_km


class Camera(Group):
    heading_deg: float = number(
        0.0, low=0.0, high=360.0, step=1.0, unit="°", group="Framing", label="Heading",
        help="Bearing the camera looks toward, clockwise from north.",
    )
    pitch_deg: float = number(
        12.0, low=-90.0, high=90.0, step=0.5, unit="°", group="Framing", label="Pitch",
        help="Tilt above the horizon.",
    )
    roll_deg: float = number(
        0.0, low=-180.0, high=180.0, step=0.5, unit="°", group="Framing", label="Roll",
        help="Turn about the line of sight, clockwise as seen.",
    )
    lens_mm: float = number(
        28.0, low=8.0, high=800.0, step=1.0, unit="mm", group="Lens", label="Lens",
        scale="log", help="Focal length of a rectilinear lens.",
    )
    sensor_width_mm: float = number(
        36.0, low=4.0, high=100.0, step=0.1, unit="mm", group="Lens", label="Sensor width",
        scale="log", help="Width of the film gate; 36 mm is the small-picture format.",
    )
    altitude_m: float = number(
        1.6, low=0.2, high=1e8, step=0.1, unit="m", group="Framing", label="Eye height",
        scale="log", help="Height of the camera above the ground at the site, up to orbits and "
        "beyond.",
    )
    aspect: float = number(
        16.0 / 9.0, low=0.25, high=4.0, step=0.05, unit=": 1", group="Lens", label="Aspect",
        help="Width of the picture over its height.",
    )

    east_m: float = number(
        0.0, low=-3e6, high=3e6, step=50.0, unit="m", group="Travel", label="East",
        help="How far the camera has travelled east of the site; layers shift by their distance.",
    )
    north_m: float = number(
        0.0, low=-3e6, high=3e6, step=50.0, unit="m", group="Travel", label="North",
        help="How far the camera has travelled north of the site.",
    )

    @property
    def fov_h_rad(self) -> float:
        """Horizontal angle of view of the rectilinear lens, radians."""
        return 2.0 * math.atan(0.5 * self.sensor_width_mm / self.lens_mm)

    @property
    def fov_v_rad(self) -> float:
        """Vertical angle of view, radians."""
        return 2.0 * math.atan(0.5 * self.sensor_width_mm / self.aspect / self.lens_mm)


class Film(Group):
    exposure_ev: float | None = number(
        None, low=-12.0, high=22.0, step=0.1, unit="EV", group="Exposure", label="Exposure",
        derived="automatic", help="Exposure value at ISO 100; higher is darker. Automatic meters "
        "the picture and holds the highlights.",
    )
    expose_for: Literal["all", "light", "shade"] = choice(
        "all", group="Exposure", label="Expose for",
        help="What automatic exposure goes by: all of the picture, what is lit, or what lies in "
        "shade, such as the night side of a planet.",
    )
    white_balance_k: float | None = number(
        None, low=2000.0, high=20000.0, step=100.0, unit="K", group="Colour",
        label="White balance", scale="log", derived="automatic",
        help="Colour temperature that is rendered neutral; higher is warmer. Automatic follows "
        "the light by half and keeps an evening warm.",
    )
    curve: Literal["plain", "soft", "standard", "strong"] = choice(
        "standard", group="Curve", label="Film",
        help="Standard prints as a photographer would, soft holds more of the range for planning, "
        "strong deepens the blue, plain keeps the ratios of the light and matches photographs.",
    )
    contrast: float = number(
        1.0, low=0.5, high=1.6, step=0.05, unit="", group="Curve", label="Contrast",
        help="Slope of the film's curve at middle grey, over its own. Toe and shoulder follow, so "
        "that little more burns out.",
    )
    toe_stops: float | None = number(
        None, low=3.0, high=14.0, step=0.5, unit="stops", group="Curve", label="Toe",
        derived="of the film", help="Stops below middle grey at which it is black: more is softer "
        "in the shade.",
    )
    shoulder_stops: float | None = number(
        None, low=2.5, high=10.0, step=0.1, unit="stops", group="Curve", label="Shoulder",
        derived="of the film", help="Stops above middle grey at which it is white: more holds "
        "brighter light and is greyer.",
    )
    saturation: float = number(
        1.0, low=0.0, high=2.0, step=0.05, unit="", group="Colour", label="Saturation",
        help="How far colours stand from the grey of their luminance: 0 is black and white, 1 as "
        "they are.",
    )
    glow: float = number(
        0.0, low=0.0, high=0.5, step=0.01, unit="", group="Glass", label="Glow",
        help="Share of the light that strays in the lens: a veil about the sun and bright rims. "
        "Of the picture alone; linear files have none.",
    )
    vignette: float = number(
        0.0, low=0.0, high=3.0, step=0.1, unit="EV", group="Glass", label="Vignette",
        help="Stops that the picture's corners are darker than its middle.",
    )


def refuse_keys(sky: Sky, path: str, keys: Keys) -> None:
    """Raises ValueError for keys that do not fit their control."""
    model: type[Group] = Sky
    inner = path
    if path.startswith("layers["):
        layer_id, _, inner = path[7:].partition("].")
        if all(x.id != layer_id for x in sky.layers):
            raise ValueError(f"keys of {path}: there is no such layer; remove them, or name a "
                             "layer that is there")
        model = Layer
        if inner.startswith("heroes["):
            hero_id, _, inner = inner[7:].partition("].")
            if all(h.id != hero_id for x in sky.layers if x.id == layer_id for h in x.heroes):
                raise ValueError(f"keys of {path}: there is no such cloud; remove them, or name "
                                 "one that is there")
            model = Hero
    known = parameter_at(model, inner)
    if known is None or known.kind not in KEYED or path.startswith("motion") or path in NOT_KEYED:
        raise ValueError(f"keys of {path}: this cannot be keyed; key a number, a colour or a "
                         "switch")
    for point in keys.points:
        value = point.value
        right = (isinstance(value, bool) if known.kind == "switch" else
                 isinstance(value, str) if known.kind == "colour" else
                 isinstance(value, int | float) and not isinstance(value, bool))
        if not right:
            raise ValueError(f"keys of {path}: {value!r} at {point.at_s:g} s is no value of it; "
                             "give one of its kind")
        if known.low is not None and known.high is not None and not (
                known.low <= float(value) <= known.high):
            raise ValueError(f"keys of {path}: {value:g} at {point.at_s:g} s is outside "
                             f"{known.low:g} to {known.high:g}; give a value within")


class Sky(Group):
    """A whole sky. `{"dovrek": 1}` is a complete clear one."""

    dovrek: Literal[1] = 1
    name: str = Field("Untitled sky", max_length=120, min_length=1)
    seed: int = number(
        1, low=0, high=999999, step=1, unit="", group="Sky", label="Seed",
        help="Deals every layer anew at once.",
    )
    site: Site = Field(default_factory=lambda: Site())
    moment: str = choice(
        "2026-06-21T13:00", group="Site", label="Moment",
        help="ISO date and time; without an offset it is the site's local time.",
    )
    sun: Sun = Field(default_factory=lambda: Sun())
    moon: Moon = Field(default_factory=lambda: Moon())
    air: Air = Field(default_factory=lambda: Air())
    ground: Ground = Field(default_factory=lambda: Ground())
    relief: Relief = Field(default_factory=lambda: Relief())
    fog: Fog = Field(default_factory=lambda: Fog())
    behind: Behind = Field(default_factory=lambda: Behind())
    layers: list[Layer] = Field(default_factory=list, max_length=LAYER_LIMIT)
    camera: Camera = Field(default_factory=lambda: Camera())
    film: Film = Field(default_factory=lambda: Film())
    motion: Motion = Field(default_factory=lambda: Motion())

    @field_validator("moment")
    @classmethod
    def _readable_moment(cls, value: str) -> str:
        try:
            read = datetime.fromisoformat(value)
        except ValueError:
            raise ValueError("not an ISO date and time; write it like 2026-06-21T18:30") from None
        if not YEARS[0] <= read.year <= YEARS[1]:
            raise ValueError(f"year out of range; give one from {YEARS[0]} to {YEARS[1]}")
        return value

    @field_validator("name")
    @classmethod
    def _printable_name(cls, value: str) -> str:
        if not value.strip() or not value.isprintable():
            raise ValueError("a name needs at least one printable character, and no others")
        return value.strip()

    @model_validator(mode="before")
    @classmethod
    def _number_layers(cls, given: Any) -> Any:
        """Give layers without an id one of their own (id of a layer is what selection keeps)."""
        if not isinstance(given, dict) or not isinstance(given.get("layers"), list):
            return given
        layers = given["layers"]
        taken = {entry.get("id") for entry in layers if isinstance(entry, dict)}
        numbered = []
        for entry in layers:
            if isinstance(entry, dict) and not entry.get("id"):
                index = 1
                while f"layer-{index}" in taken:
                    index += 1
                taken.add(f"layer-{index}")
                entry = {**entry, "id": f"layer-{index}"}
            numbered.append(entry)
        return {**given, "layers": numbered}

    @model_validator(mode="after")
    def _date_exists(self) -> Sky:
        """Zones have left out whole dates (Apia had no 30 December 2011)."""
        zone = zoneinfo.ZoneInfo(self.site.timezone)
        date = self.local_moment().date()
        noon = datetime(date.year, date.month, date.day, 12, tzinfo=zone)
        if noon.astimezone(UTC).astimezone(zone).date() != date:
            raise ValueError(f"there was no {date.isoformat()} in {self.site.timezone}; give the "
                             "moment another date")
        return self

    @model_validator(mode="after")
    def _keys_fit(self) -> Sky:
        """Refuse keys on what is not there, cannot be keyed, or has no such value."""
        for path, keys in self.motion.keys.items():
            refuse_keys(self, path, keys)
        return self

    @model_validator(mode="after")
    def _few_heroes(self) -> Sky:
        count = sum(len(layer.heroes) for layer in self.layers)
        if count > HEROES_MOST:
            raise ValueError(f"heroes: {count} are more than the {HEROES_MOST} a sky holds; remove "
                             "some")
        keyed = {path.partition("].wash")[0] for path in self.motion.keys if "].wash" in path}
        washes = set()  # one that is keyed may become unlike all others
        for x in self.layers:
            for h in x.heroes:
                own = f"layers[{x.id}].heroes[{h.id}"
                if own in keyed or h.wash is not None:
                    washes.add(own if own in keyed else x.id + h.washed(x.wash).model_dump_json())
        if len(washes) > WASHES_MOST:
            raise ValueError(f"heroes: {len(washes)} washes of their own are more than the "
                             f"{WASHES_MOST} a sky holds; give some of them the same")
        return self

    @model_validator(mode="after")
    def _distinct_ids(self) -> Sky:
        ids = [layer.id for layer in self.layers]
        if len(set(ids)) != len(ids):
            raise ValueError("two layers share an id; give every layer an id of its own")
        return self

    def local_moment(self) -> datetime:
        """The moment with its offset: as written, or by the site's clock."""
        read = datetime.fromisoformat(self.moment)
        zone = zoneinfo.ZoneInfo(self.site.timezone)
        return read.astimezone(zone) if read.tzinfo else read.replace(tzinfo=zone)
