"""Suggest a sky from a photograph: a search over real renders at low resolution.

First clear skies of many sun heights, bearings and hazes (one small dome each, turned about the
zenith), rated by how many coloured pixels of the photograph agree with them: clouds are
outliers. Then, over the best of them, the cloud: genus by genus, each with the cover that shows
as much of it in such a frame as the photograph has, and the genus whose texture is nearest.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.film import automatic_white, develop, meter
from dovrek.core.lens import direction_at, dome_lens, picture_lens
from dovrek.core.likeness import Pixels, linear, sky_rows
from dovrek.core.prepare import SKETCH, Prepared, Preparer
from dovrek.core.render import Quality, meter_sky, render_frame
from dovrek.core.spectrum import LUMINANCE_RGB
from dovrek.core.stages import Cancel
from dovrek.core.sunlight import illuminances
from dovrek.sky.document import Camera, Sky
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.reading import sky_from_data, sky_to_data

ELEVATIONS = (-5.0, -2.0, 0.5, 3.0, 6.0, 10.0, 15.0, 21.0, 28.0, 37.0, 48.0, 62.0)
HAZES = (0.04, 0.1, 0.25, 0.6)
BEARINGS = 24  # of the sun against the camera
STOPS = (-1.5, -1.0, -0.5, 0.0, 0.5, 1.0, 1.5)  # about the automatic exposure
FINE_STOPS, FINE_KELVINS = (-0.3, -0.15, 0.0, 0.15, 0.3), (0.9, 1.0, 1.12)
DOME = (96, 48)
FRAME_WIDTH, CLOUD_WIDTH = 48, 96
# Difference of developed pixels (0 … 1) at which one no longer speaks for a clear sky: clouds
# are outliers to the fit, not errors of it (a bounded loss; Geman & McClure 1985).
LOOSE, STRICT = 0.06, 0.025
CLOUDY = 0.055  # a pixel that far from the fitted clear sky is cloud
BLUEST = 0.12  # share of a block that stands for the sky behind its clouds
EVEN = 5.0  # standard deviation of a block (of 255) up to which it is of one thing
CLEAR_LEAST = 0.03  # share of clear pixels below which nothing is known of sun and haze
WIDE_STOPS = (-0.9, -0.6, -0.4, -0.2, 0.0, 0.2, 0.4, 0.6, 0.9)
STARTS, ROUNDS = 3, 2
TIE = 1.35  # of the least error: sun heights that only their clouds can tell apart
TRUST = 0.5  # in the clear sky's error over the whole frame's difference, as logarithms
# Pictures are exposed about as a meter says (common practice): stops it is believed within.
METERED = 0.45
HEIGHTS = (8.0, 20.0, 34.0, 48.0, 64.0)  # of the sun, tried besides those near the best fit
GENERA = ("cumulus", "stratocumulus", "stratus", "altocumulus", "altostratus", "cirrus",
          "cirrocumulus", "cirrostratus")
COVER_STEPS = 3
UNBROKEN_SHARE = 0.9985  # of a frame under cloud, beyond which no gap is taken to be there
FULL_SLACK = 0.05  # by which frames of one sky differ in their share of cloud, about
TURNS = (-15.0, 15.0)  # degrees, of frames that see other clouds in the same air
SEARCH = Quality("search", SKETCH, 1, 1.7, 1.0, 0.3, 0.2)
QUANTILES = np.linspace(0.05, 0.95, 10)
Progress = Callable[[float, str], None]


@dataclass(frozen=True)
class Framing:
    """How a photograph looks at the sky."""

    fov_h_rad: float
    pitch_deg: float
    horizon: float  # share of the height from the top where the sky ends


@dataclass
class Proposal:
    """A sky proposed, how near it came, and what the photograph cannot tell."""

    sky: Sky
    error: float  # rms difference of developed pixels, 0 … 1
    sun_elevation_deg: float
    haze: float
    cover_oktas: float
    genus: str
    cannot_know: list[str] = field(default_factory=list)


class Clear(NamedTuple):
    """The clear sky that fits best."""

    error: float
    elevation_deg: float
    haze: float
    bearing_deg: float  # of the sun, clockwise from the camera's heading
    ev: float
    kelvins: float


def _small(pixels: Pixels, width: int) -> Pixels:
    height = max(8, round(width * pixels.shape[0] / pixels.shape[1]))
    return np.asarray(Image.fromarray(pixels).resize((width, height), Image.Resampling.BOX))


def _clearest(pixels: Pixels, width: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """(h, width, 3) a picture made small, and the weight of each of its pixels.

    An even block gives its mean; an uneven one the bluest few of its pixels: between small
    clouds that is the sky behind them.
    """
    block = max(1, pixels.shape[1] // width)
    h, w = pixels.shape[0] // block, pixels.shape[1] // block
    cut = pixels[: h * block, : w * block].astype(np.float64)
    blocks = cut.reshape(h, block, w, block, 3).swapaxes(1, 2).reshape(h, w, block * block, 3)
    order = np.argsort(blocks[..., 0] / np.maximum(blocks[..., 2], 1.0), axis=2)
    few = max(1, round(BLUEST * block * block))
    bluest = np.take_along_axis(blocks, order[:, :, :few, None], axis=2).mean(axis=2)
    even = blocks.std(axis=2).max(axis=2, keepdims=True) < EVEN
    return np.where(even, blocks.mean(axis=2), bluest), np.where(even[..., 0], 1.0, 0.35)


def _shown(xyz: NDArray[np.float32], ev: float, kelvins: float) -> NDArray[np.float64]:
    """(n, 3) developed values 0 … 1 of (n, 3) light."""
    return np.asarray(develop(np.ascontiguousarray(xyz[None]), ev, kelvins)[0] / 255.0)


def _free_sun(sky: Sky, elevation: float, azimuth: float, haze: float) -> Sky:
    data = sky_to_data(sky)
    data["sun"] |= {"mode": "free", "elevation_deg": elevation, "azimuth_deg": azimuth % 360.0}
    data["air"]["haze"] = round(haze, 3)
    return sky_from_data(data)


def _white(prepared: Prepared) -> float:
    air = prepared.atmosphere
    direct, diffuse = illuminances(air.media, air.sun, air.scattered, prepared.sun)
    return automatic_white(direct + diffuse)


def _places(framing: Framing, size: tuple[int, int]) -> tuple[NDArray[Any], NDArray[Any]]:
    """Elevation and bearing (radians, from the camera's heading) of every pixel."""


    camera = Camera(pitch_deg=framing.pitch_deg, heading_deg=0.0, sensor_width_mm=36.0,
                    lens_mm=min(max(18.0 / math.tan(0.5 * framing.fov_h_rad), 8.0), 800.0))
    lens = picture_lens(camera, size[0] / size[1])
    rays = np.array([[direction_at(lens, (x + 0.5) / size[0], (y + 0.5) / size[1])
                      for x in range(size[0])] for y in range(size[1])])
    return np.arcsin(np.clip(rays[..., 2], -1, 1)), np.arctan2(rays[..., 0], rays[..., 1])


def _from_dome(dome: NDArray[np.float32], up: NDArray[Any],
               around: NDArray[Any]) -> NDArray[np.float32]:
    """(n, 3) light of a dome (its middle column north) at elevations and azimuths, radians."""
    height, width = dome.shape[:2]
    x = ((around / (2.0 * math.pi) + 0.5) % 1.0) * width - 0.5
    y = np.clip((0.5 - up / math.pi) * height - 0.5, 0.0, height - 1.001)
    x0, y0 = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - x0)[:, None], (y - y0)[:, None]
    a, b = x0 % width, (x0 + 1) % width
    top = dome[y0, a] * (1 - fx) + dome[y0, b] * fx
    low = dome[y0 + 1, a] * (1 - fx) + dome[y0 + 1, b] * fx
    return np.asarray(top * (1 - fy) + low * fy, dtype=np.float32)


class _Match:
    """The sky of a photograph as pixels to match: place, colour, weight."""

    def __init__(self, pixels: Pixels, framing: Framing) -> None:
        small, trust = _clearest(pixels, FRAME_WIDTH)
        rows = sky_rows(small.shape[0], framing.horizon)
        up, around = _places(framing, (small.shape[1], small.shape[0]))
        seen = up[:rows] > math.radians(1.0)
        self.up, self.around = up[:rows][seen], around[:rows][seen]
        self.wanted = small[:rows][seen] / 255.0
        # Grey may be cloud; what has a colour is sky.
        chroma = self.wanted.max(axis=1) - self.wanted.min(axis=1)
        self.weights = (0.1 + np.minimum(4.0 * chroma, 1.0)) * trust[:rows][seen]
        self.weights /= max(float(self.weights.sum()), 1e-9)

    def apart(self, light: NDArray[np.float32], ev: float, kelvins: float) -> NDArray[np.float64]:
        """Squared difference of every pixel."""
        found: NDArray[np.float64] = np.mean((_shown(light, ev, kelvins) - self.wanted) ** 2,
                                             axis=1)
        return found

    def error(self, light: NDArray[np.float32], ev: float, kelvins: float, scale: float) -> float:
        """Bounded loss, 0 (all alike) to 1."""
        square = self.apart(light, ev, kelvins)
        return float((self.weights * square / (square + scale * scale)).sum())


def fit_clear(sky: Sky, pixels: Pixels, framing: Framing, preparer: Preparer, cancel: Cancel,
              progress: Progress) -> list[Clear]:
    """Clear skies that most of a photograph's coloured pixels agree with, the best first, one for
    each sun height that fits nearly as well; none when too few pixels agree with any."""
    match = _Match(pixels, framing)
    quality = Quality("search", SKETCH, 1, 2.0, 0.0)
    bare = sky.model_copy(update={"layers": []})

    def dome_of(elevation: float, haze: float) -> tuple[NDArray[np.float32], float]:
        cancel.check()
        prepared = preparer.scene(_free_sun(bare, elevation, 0.0, haze), SKETCH, cancel)
        return render_frame(prepared, dome_lens(0.0), DOME, quality, preparer.workers, cancel,
                            sun_disc=False)[..., :3], _white(prepared)

    rated: list[Clear] = []
    for count, (haze, elevation) in enumerate((h, e) for h in HAZES for e in ELEVATIONS):
        dome, white = dome_of(elevation, haze)
        for k in range(BEARINGS):
            bearing = 2.0 * math.pi * k / BEARINGS
            light = _from_dome(dome, match.up, match.around - bearing)
            ev = meter(light[:, 1].astype(float), np.ones(len(light), dtype=bool))
            rated += [Clear(match.error(light, ev + stop, white, LOOSE), elevation, haze,
                            math.degrees(bearing), ev + stop, white) for stop in STOPS]
        progress(0.6 * (count + 1) / (len(HAZES) * len(ELEVATIONS)), "sun and haze")
    rated.sort()
    starts: list[Clear] = []
    for near in rated:
        if all((near.elevation_deg, near.haze) != (s.elevation_deg, s.haze) for s in starts):
            starts.append(near)
        if len(starts) == STARTS:
            break
    refined = []
    for number, start in enumerate(starts):
        refined.append(_refined(start, match, dome_of))
        progress(0.6 + 0.2 * (number + 1) / STARTS, "sun and haze, closer")
    best = min(refined)
    dome, _ = dome_of(best.elevation_deg, best.haze)
    light = _from_dome(dome, match.up, match.around - math.radians(best.bearing_deg))
    agree = match.apart(light, best.ev, best.kelvins) < CLOUDY**2
    coloured = np.ptp(match.wanted, axis=1) > 0.06
    if float((agree & coloured).mean()) < CLEAR_LEAST:
        return []
    # Height and exposure trade against each other: other heights on the same footing.
    others = [best]
    step = max(0.3 * abs(best.elevation_deg), 4.0)
    heights = [best.elevation_deg + by * step for by in (-1.0, -0.6, -0.3, 0.3, 0.6, 1.0)]
    if best.elevation_deg > 5.0:
        heights += [h for h in HEIGHTS if abs(h - best.elevation_deg) > 1.2 * step]
    for number, height in enumerate(h for h in heights if -6.0 <= h <= 80.0):
        found = best._replace(error=2.0)
        for haze in (best.haze / 1.3, best.haze, best.haze * 1.3):
            found = _bettered(found, match, dome_of, height, haze,
                              [best.bearing_deg - 5.0, best.bearing_deg, best.bearing_deg + 5.0],
                              WIDE_STOPS)
        if found.error < TIE * best.error:
            others.append(found)
        progress(0.8 + 0.2 * (number + 1) / len(heights), "sun and haze, closer")
    return sorted(others)


DomeOf = Callable[[float, float], tuple[NDArray[np.float32], float]]


def _bettered(now: Clear, match: _Match, dome_of: DomeOf, elevation: float, haze: float,
              bearings: list[float], stops: tuple[float, ...] = FINE_STOPS) -> Clear:
    """The best so far, or a better one at a height and haze; exposure and white balance anew."""
    dome, white = dome_of(elevation, haze)
    for bearing in bearings:
        light = _from_dome(dome, match.up, match.around - math.radians(bearing))
        for stop in stops:
            for factor in FINE_KELVINS:
                ev, kelvins = now.ev + stop, white * factor
                # Another white balance than the automatic one must earn its place.
                error = match.error(light, ev, kelvins, STRICT) + 0.02 * abs(math.log(factor))
                if error < now.error:
                    now = Clear(error, elevation, haze, bearing % 360.0, ev, kelvins)
    return now


def _refined(start: Clear, match: _Match, dome_of: DomeOf) -> Clear:
    """A start improved step by step: height, bearing, haze."""
    best = _bettered(start._replace(error=2.0), match, dome_of, start.elevation_deg, start.haze,
                     [start.bearing_deg])
    step = max(2.0, 0.14 * abs(start.elevation_deg) + 1.0)
    for number in range(ROUNDS):
        by = step / 2**number
        turn = 8.0 / 2**number
        for elevation in (best.elevation_deg - by, best.elevation_deg + by):
            best = _bettered(best, match, dome_of, min(elevation, 89.0), best.haze,
                             [best.bearing_deg + t for t in (-turn, 0.0, turn)])
        ratio = 1.0 + 0.5 / 2**number
        for haze in (best.haze / ratio, best.haze * ratio):
            best = _bettered(best, match, dome_of, best.elevation_deg,
                             min(max(haze, 0.01), 2.0), [best.bearing_deg])
    return best


def _texture(pixels: Pixels, rows: int, cloud: NDArray[np.bool_]) -> NDArray[np.float64]:
    """What tells genera apart in a frame: how cloud light varies, at which sizes, and where."""
    light = np.sqrt(linear(pixels[:rows]) @ LUMINANCE_RGB)
    found = []
    for shift in (1, 2, 4, 8):
        pairs = (light[:, shift:] - light[:, :-shift], light[shift:] - light[:-shift])
        found += [4.0 * float(np.abs(p).mean()) if p.size else 0.0 for p in pairs]
    edges = (cloud[:, 1:] != cloud[:, :-1]).mean() + (cloud[1:] != cloud[:-1]).mean()
    bright = light[cloud].mean() if cloud.any() else light.mean()
    spread = light[cloud].std() if cloud.any() else 0.0
    thirds = [part.mean() for part in np.array_split(cloud.astype(float), 3, axis=0)]
    return np.array([*found, 2.0 * edges, bright, 2.0 * spread, *(0.5 * t for t in thirds)])


def _differ(first: NDArray[Any], second: NDArray[Any]) -> NDArray[np.bool_]:
    """Pixels (0 … 255) that differ as cloud differs from clear sky."""
    square = np.mean((first.astype(float) - second.astype(float)) ** 2, axis=-1)
    found: NDArray[np.bool_] = square > (255.0 * CLOUDY) ** 2
    return found


class _Clouds:
    """Cloud over a fitted clear sky: what the photograph has of it, what a layer would show."""

    def __init__(self, base: Sky, pixels: Pixels, framing: Framing, ev: float, kelvins: float,
                 preparer: Preparer, cancel: Cancel, unknown: bool) -> None:
        self.base, self.ev, self.kelvins = base, ev, kelvins
        self.preparer, self.cancel = preparer, cancel
        self.small = _small(pixels, CLOUD_WIDTH)
        self.size = (self.small.shape[1], self.small.shape[0])
        self.rows = sky_rows(self.size[1], framing.horizon)
        self.lens = picture_lens(base.camera, self.size[0] / self.size[1])
        self.clear = self.frame(base)
        self.alike = self.frames_alike(base)
        up, _ = _places(framing, self.size)
        above = up[: self.rows] > math.radians(1.0)
        cloud = np.ones(above.shape, dtype=bool) if unknown else _differ(
            self.small[: self.rows], self.clear[: self.rows])
        self.target = 1.0 if unknown else float(cloud[above].mean())
        self.wanted = _texture(self.small, self.rows, cloud)
        self.above = above

    def _developed(self, sky: Sky, lens: Any, size: tuple[int, int]) -> Pixels:
        self.cancel.check()
        prepared = self.preparer.scene(sky, SKETCH, self.cancel)
        light = render_frame(prepared, lens, size, SEARCH, self.preparer.workers,
                             self.cancel, sun_disc=False)
        return np.asarray(develop(light, self.ev, self.kelvins), dtype=np.uint8)

    def frame(self, sky: Sky) -> Pixels:
        return self._developed(sky, self.lens, self.size)

    def frames_alike(self, sky: Sky) -> list[Pixels]:
        """Frames that look at the sun about as the photograph does: turned a little to both sides,
        and the same mirrored at the sun's bearing. Their air is alike, their clouds are others."""
        found = []
        heading, sun = sky.camera.heading_deg, sky.sun.azimuth_deg
        for turn in TURNS:
            for towards in (heading + turn, 2.0 * sun - heading - turn):
                camera = sky.camera.model_copy(update={"heading_deg": towards % 360.0})
                lens = picture_lens(camera, self.size[0] / self.size[1])
                found.append(self._developed(sky, lens, self.size)[: self.rows])
        return found

    def with_layer(self, genus: str, cover: float) -> Sky:
        data = sky_to_data(self.base)
        layer: dict[str, Any] = {"id": "suggested", "genus": genus,
                                 "cover_oktas": round(cover, 2)}
        # The usual clearings of a genus would say something that was not seen.
        layer["clearings"] = {**GENUS_DEFAULTS[genus].get("clearings", {}), "share": 0.0}
        data["layers"] = [layer]
        return sky_from_data(data)

    def share(self, sky: Sky) -> float:
        """Cloud in frames like the photograph's, measured as on the photograph."""
        return float(np.mean([_differ(shown, clear)[self.above].mean() for shown, clear in
                              zip(self.frames_alike(sky), self.alike, strict=True)]))

    def cover_for(self, genus: str) -> float:
        """The cover at which a genus shows as much cloud as the photograph has. In the frame
        clouds stand before one another: it shows more than its cover."""
        if self.target > UNBROKEN_SHARE:
            return 8.0
        # Nearly full frames differ by more than their covers tell: the least cover that may do.
        wanted = self.target - FULL_SLACK * min(max(self.target / 0.1 - 8.0, 0.0), 1.0)
        low, high = 0.0, 8.0
        cover = min(max(6.0 * wanted, 0.2), 7.5)
        for _ in range(COVER_STEPS):
            share = self.share(self.with_layer(genus, cover))
            if abs(share - wanted) < 0.01 + 0.06 * wanted:
                break
            if share < wanted:
                low = cover
            else:
                high = cover
            # Shares grow with cover roughly as 1 - (1 - c)^n: step by that, kept in between.
            power = math.log(max(1.0 - min(share, 0.98), 0.01)) / math.log(
                max(1.0 - min(cover / 8.0, 0.98), 0.01))
            aim = 8.0 * (1.0 - (1.0 - min(wanted, 0.98)) ** (1.0 / max(power, 0.2)))
            cover = aim if low < aim < high else 0.5 * (low + high)
        return cover

    def whole(self, sky: Sky) -> float:
        """How unlike the photograph a sky's frame is in its range of colours, band by band."""
        shown = self.frame(sky)
        found = []
        for ours, theirs in zip(np.array_split(shown[: self.rows], 3),
                                np.array_split(self.small[: self.rows], 3), strict=True):
            a, b = (np.quantile(part.reshape(-1, 3) / 255.0, QUANTILES, axis=0)
                    for part in (ours, theirs))
            found.append(np.mean((a - b) ** 2))
        return float(np.sqrt(np.mean(found)))

    def metered(self, sky: Sky) -> float:
        """Exposure a meter would choose for a sky."""
        prepared = self.preparer.scene(sky, SKETCH, self.cancel)
        return meter_sky(sky, prepared, self.preparer.workers, self.cancel).ev

    def apart(self, sky: Sky) -> float:
        """How unlike the photograph a sky's frame looks in its texture."""
        shown = self.frame(sky)
        cloud = _differ(shown[: self.rows], self.clear[: self.rows])
        return float(np.linalg.norm(_texture(shown, self.rows, cloud) - self.wanted))


def suggest(sky: Sky, pixels: Pixels, framing: Framing, preparer: Preparer,
            cancel: Cancel, progress: Progress = lambda share, what: None) -> Proposal:
    """A sky like a photograph, over the site and camera of `sky` (its camera framed as the
    photograph is). Raises Cancelled."""
    cannot = ["how bright the scene was: a photograph without its exposure shows only what "
              "its film made of it",
              "place and date: the sun is set free, at a height and bearing"]
    known = fit_clear(sky, pixels, framing, preparer, cancel,
                      lambda share, what: progress(0.5 * share, what))
    found = known[0] if known else Clear(1.0, 40.0, sky.air.haze, 120.0, 14.0, 5600.0)
    if not known:
        cannot += ["the sun's height and the haze: no clear sky is seen",
                   "genus and exposure closely, under an unbroken sheet"]
    lit = _lit(sky, found)
    clouds = _Clouds(lit, pixels, framing, found.ev, found.kelvins, preparer, cancel, not known)
    genus, cover = "", 0.0
    if clouds.target > 0.02:
        rated = []
        for number, name in enumerate(GENERA):
            likely = clouds.cover_for(name)
            layered = clouds.with_layer(name, likely)
            rated.append((clouds.apart(layered), likely, name, layered))
            progress(0.5 + 0.35 * (number + 1) / len(GENERA), "clouds")
        _, cover, genus, lit = min(rated, key=lambda item: item[0])
        tied = []
        for number, other in enumerate(known):
            clouds.base, clouds.ev, clouds.kelvins = _lit(sky, other), other.ev, other.kelvins
            layered = clouds.with_layer(genus, cover)
            tied.append((math.log(clouds.whole(layered)) + TRUST * math.log(other.error)
                         + 0.5 * ((other.ev - clouds.metered(layered)) / METERED) ** 2, other))
            progress(0.85 + 0.1 * (number + 1) / len(known), "the sun by its clouds")
        if tied:
            found = min(tied)[1]
            clouds.base = _lit(sky, found)
            lit = clouds.with_layer(genus, cover)
    heights = [k.elevation_deg for k in known]
    if heights and max(heights) - min(heights) > 20.0:
        cannot.append(f"the sun's height closely: {min(heights):.0f}° to {max(heights):.0f}° fit "
                      "the clear sky about as well; its clouds decided")
    picture = _small(pixels, CLOUD_WIDTH)
    ev, kelvins = found.ev, found.kelvins
    ev, error = _settle_exposure(lit, picture, framing, ev, kelvins, preparer, cancel)
    data = sky_to_data(lit)
    data["film"] |= {"exposure_ev": round(ev, 1), "white_balance_k": round(kelvins, -1)}
    data["name"] = sky.name
    progress(1.0, "done")
    return Proposal(sky_from_data(data), error, found.elevation_deg, round(found.haze, 3), cover,
                    genus, cannot)


def _lit(sky: Sky, found: Clear) -> Sky:
    """The sky without cloud under the sun and haze that were found."""
    return _free_sun(sky.model_copy(update={"layers": []}), found.elevation_deg,
                     sky.camera.heading_deg + found.bearing_deg, found.haze)


def _settle_exposure(sky: Sky, picture: Pixels, framing: Framing, ev: float, kelvins: float,
                     preparer: Preparer, cancel: Cancel) -> tuple[float, float]:
    """Exposure at which the whole sky is developed as bright as the photograph, and the rms
    difference that is left."""
    size = (picture.shape[1], picture.shape[0])
    rows = sky_rows(size[1], framing.horizon)
    prepared = preparer.scene(sky, SKETCH, cancel)
    light = render_frame(prepared, picture_lens(sky.camera, size[0] / size[1]), size,
                         SEARCH, preparer.workers, cancel, sun_disc=False)
    wanted = linear(picture[:rows]) @ LUMINANCE_RGB
    low, high = ev - 4.0, ev + 4.0
    for _ in range(16):
        middle = 0.5 * (low + high)
        shown = np.asarray(develop(light, middle, kelvins), dtype=np.uint8)[:rows]
        if (linear(shown) @ LUMINANCE_RGB).mean() > wanted.mean():
            low = middle
        else:
            high = middle
    ev = 0.5 * (low + high)
    final = np.asarray(develop(light, ev, kelvins), dtype=np.uint8)[:rows].astype(float)
    coarse = [np.asarray(Image.fromarray(p.astype(np.uint8)).resize((16, 9), Image.Resampling.BOX),
                         dtype=float) for p in (final, picture[:rows].astype(float))]
    return ev, float(np.sqrt(np.mean((coarse[0] - coarse[1]) ** 2)) / 255.0)
