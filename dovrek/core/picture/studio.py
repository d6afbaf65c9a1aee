"""One place that turns a sky and a few wishes into light: scene, metering, march."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from dovrek.core.compile.kernels import FOLDER, NAMED
from dovrek.core.geometry.views import OFFERED, lens_of
from dovrek.core.geometry.views.view import Frame, Lens, View
from dovrek.core.picture.ahead import Ahead
from dovrek.core.picture.behind import laid_under, stands_behind
from dovrek.core.picture.clip import exposed_at, metered_at
from dovrek.core.picture.render import (
    QUALITIES,
    Metered,
    Quality,
    metered_scene,
    render_frame,
    render_passes,
)
from dovrek.core.prepare.fineness import FINE
from dovrek.core.prepare.moments import scene_at, scene_soon
from dovrek.core.prepare.preparer import Prepared, Preparer
from dovrek.core.run.cache import BYTES_KEPT, StageCache
from dovrek.core.run.shelf import Shelf
from dovrek.core.run.stage import OUTLASTING, Known
from dovrek.core.run.workers import Cancel, Workers
from dovrek.core.transport.passes import Passes
from dovrek.core.transport.reference import trace_frame, tracing_of
from dovrek.core.transport.scene import Marching
from dovrek.sky.clip import sky_at
from dovrek.sky.document import Sky

EXTENT_KM = 40.0
EXTENT_LIMITS_KM = (1.0, 200_000.0)  # wider than the planet: a globe
OUT_THERE = 3.0  # radii of the planet over its ground, from where a globe's light is told
SIDE_LIMIT = 8192


@dataclass(frozen=True)
class Wish:
    """What picture is wanted."""

    width: int = 960
    height: int = 540
    quality: str = "proof"
    view: str = "picture"
    sun_disc: bool = True
    ground: bool = True
    centre_deg: float = 0.0
    extent_km: float = EXTENT_KM
    passes: bool = False
    clip_s: float | None = None  # a second of the clip; the still unless set
    soon: bool = False  # a first look at that second, under what light is at hand
    land: bool = True  # kept, where the ground is; else a hole
    sky: bool = True  # kept; else the clouds are alone

    @property
    def settings(self) -> Quality:
        return QUALITIES[self.quality]

    @property
    def seen(self) -> View:
        """The view asked for."""
        return OFFERED[self.view]

    def lens(self, sky: Sky) -> Lens:
        camera = sky.camera if self.clip_s is None else sky_at(sky, self.clip_s).camera
        return lens_of(self.seen, camera, Frame(self.width / self.height, self.centre_deg,
                                                    self.extent_km * 1e3, sky.air.planet_m))

    def told(self, sky: Sky) -> Sky:
        """The document as it stands at the wish's second."""
        return sky if self.clip_s is None else sky_at(sky, self.clip_s)

    def marching(self) -> Marching:
        return Marching(self.settings.step, self.settings.detail, self.sun_disc, self.ground,
                        self.settings.footprint, self.land, self.sky)


def from_far(sky: Sky) -> Sky:
    """A sky seen from so far that its light is told for the whole face of the planet."""
    far = min(OUT_THERE * sky.air.planet_m, 1e8)
    return sky.model_copy(update={"camera": sky.camera.model_copy(update={
        "altitude_m": far, "pitch_deg": -90.0, "lens_mm": 35.0})})


def holed(wish: Wish, sky: Sky) -> Wish:
    """A wish with a hole for what a picture behind the sky fills."""
    return replace(wish, sky=False) if wish.sky and stands_behind(sky, wish.view) else wish


@dataclass
class Rendered:
    """Light and how it came about."""

    light: NDArray[np.float32]  # (h, w, 5): XYZ cd/m², alpha, distance m
    prepared: Prepared
    metered: Metered
    seconds: dict[str, float] = field(default_factory=dict)
    rays: int = 0
    noise: float | None = None  # a reference's standard error over its mean
    passes: Passes | None = None


def outlasting() -> Shelf | None:
    """What earlier processes of these sources have left, beside the compiled kernels; None where
    there is no folder for these sources alone."""
    return Shelf(FOLDER / "stages", OUTLASTING) if FOLDER.name.startswith(NAMED) else None


class Studio:
    """Worker threads and kept stages for any number of renders, one at a time; it begins with what
    outlasts a process."""

    def __init__(self, threads: int = 2, niceness: Callable[[], None] | None = None,
                 most_bytes: int = BYTES_KEPT) -> None:
        self.workers = Workers(threads, niceness)
        self.preparer = Preparer(self.workers, StageCache(most_bytes, shelf=outlasting()))
        self.ahead: Ahead | None = None  # the march, being compiled beside

    def prepare(self, sky: Sky, wish: Wish, cancel: Cancel,
                preparer: Preparer | None = None) -> tuple[Prepared, Metered]:
        """Scene and film of a sky for a wish, by the studio's preparer or by one that reads
        through to it. Raises Cancelled."""
        preparer = preparer or self.preparer
        if wish.lens(sky).globe > 0.0:
            sky = from_far(sky)
        if wish.clip_s is not None:
            whole = wish.settings.fineness  # what lies aside may drift into view
            if wish.soon:
                prepared = scene_soon(preparer, sky, wish.clip_s, whole, cancel)
                told = sky_at(sky, wish.clip_s)
                metered = preparer.maker(cancel).make(metered_scene(
                    prepared=Known(prepared.key, prepared), camera=told.camera,
                    expose_for=told.film.expose_for,
                    in_hand=wish.settings.in_hand)).set_by(told.film)
            else:
                # First, since it may build other moments: the frame's own are asked for again.
                metered = metered_at(preparer, sky, wish.clip_s, whole, cancel)
                prepared = scene_at(preparer, sky, wish.clip_s, whole, cancel)
            return preparer.from_above(prepared, cancel) if wish.seen.from_above else prepared, (
                metered.seen_in(wish.view))
        fineness = wish.settings.fineness.toward(wish.lens(sky))
        prepared = preparer.scene(sky, fineness, cancel)
        if self.ahead is not None:
            self.ahead.wait()
        known = Known(prepared.key, prepared)
        metered = preparer.maker(cancel).make(
            metered_scene(prepared=known, camera=sky.camera,
                          expose_for=sky.film.expose_for,
                          in_hand=wish.settings.in_hand)).set_by(sky.film)
        if wish.seen.from_above:
            prepared = preparer.from_above(prepared, cancel)
        return prepared, metered.seen_in(wish.view)

    def holds(self, sky: Sky, wish: Wish, preparer: Preparer | None = None) -> bool:
        """Whether the fine scene of a wish is already built."""
        return wish.clip_s is None and (preparer or self.preparer).holds_scene(sky, FINE)

    def render(self, sky: Sky, wish: Wish, cancel: Cancel | None = None,
               progress: Callable[[int, int], None] = lambda done, total: None) -> Rendered:
        """Render from start to end. Raises Cancelled."""
        cancel = cancel or Cancel()
        self.preparer.cache.reset_clock()
        start = time.perf_counter()
        prepared, metered = self.prepare(sky, wish, cancel)
        marching = time.perf_counter()
        counted: list[int] = []
        parts, whole = None, wish.sky
        wish = holed(wish, sky)
        if wish.passes:
            light, parts = render_passes(prepared, wish.lens(sky), (wish.width, wish.height),
                                         wish.settings, self.workers, cancel, wish.sun_disc,
                                         wish.ground, progress, wish.land, wish.sky)
            counted.append(wish.width * wish.height * wish.settings.samples)
        else:
            light = self._exposed(sky, wish, prepared, cancel, progress, counted)
        end = time.perf_counter()
        seconds = {k: round(v, 4) for k, v in self.preparer.cache.seconds.items()}
        seconds |= {"prepare": round(marching - start, 4), "march": round(end - marching, 4),
                    "total": round(end - start, 4)}
        if whole and not wish.sky:
            light = laid_under(light, wish.told(sky), wish.lens(sky), (wish.width, wish.height),
                               metered)
        return Rendered(light, prepared, metered, seconds, sum(counted), passes=parts)

    def _exposed(self, sky: Sky, wish: Wish, prepared: Prepared, cancel: Cancel,
                 progress: Callable[[int, int], None], counted: list[int]) -> NDArray[np.float32]:
        """The light of a wish: of an instant, or the mean of several while a shutter is open."""
        still = wish.clip_s is None or wish.soon
        moments = [wish.clip_s] if still else exposed_at(sky, float(wish.clip_s or 0.0))
        many = len(moments)
        # Samples are shared out among the moments.
        quality = replace(wish.settings, samples=-(-wish.settings.samples // many))
        total: NDArray[np.float32] | None = None
        for k, moment in enumerate(moments):
            there = replace(wish, clip_s=moment)
            scene = prepared if k == 0 else self.prepare(sky, there, cancel)[0]
            light = render_frame(
                scene, there.lens(sky), (wish.width, wish.height), quality, self.workers, cancel,
                wish.sun_disc, wish.ground,
                lambda done, all_, k=k: progress(k * all_ + done, many * all_),  # type: ignore[misc]
                first_sample=k * quality.samples, counted=counted,
                land=wish.land, sky=wish.sky)
            total = light if total is None else total + light
        assert total is not None
        return total if many == 1 else total / np.float32(many)

    def trace(self, sky: Sky, wish: Wish, samples: int, cancel: Cancel | None = None,
              progress: Callable[[int, int], None] = lambda done, total: None) -> Rendered:
        """The path-traced reference, `samples` paths a pixel; its mean standard error as a
        share of the mean luminance is `noise`. Raises Cancelled."""
        cancel = cancel or Cancel()
        self.preparer.cache.reset_clock()
        start = time.perf_counter()
        prepared, metered = self.prepare(sky, wish, cancel)
        views = self.preparer.surroundings(prepared, cancel)
        tracing = tracing_of(views, sun_disc=wish.sun_disc, ground=wish.ground)
        marching = time.perf_counter()
        light, error = trace_frame(prepared.scene, tracing, wish.lens(sky),
                                   (wish.width, wish.height), samples, self.workers, cancel,
                                   progress=progress)
        end = time.perf_counter()
        seconds = {"prepare": round(marching - start, 4), "march": round(end - marching, 4),
                   "total": round(end - start, 4)}
        noise = float(error.mean() / max(float(light[..., 1].mean()), 1e-12))
        return Rendered(light, prepared, metered, seconds, wish.width * wish.height * samples,
                        noise)

    def compile_ahead(self) -> bool:
        """Compile the march in a process of its own; whether there is any need to."""
        self.ahead = Ahead()
        return self.ahead.at_work

    def close(self) -> None:
        if self.ahead is not None:
            self.ahead.end()
        self.workers.close()
