"""The live picture: each sky on show is rendered in steps, newest change first.

One thread renders for all windows. A change drops the work in hand at once; what is shown goes
from sketch over draft to proof. Changes of film alone re-develop the light at hand.
"""

from __future__ import annotations

import base64
import io
import os
import threading
import time
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.film import develop
from dovrek.core.lens import picture_lens
from dovrek.core.prepare import FINE, Atmosphere, Preparer
from dovrek.core.render import QUALITIES, Metered, Quality, render_frame
from dovrek.core.stages import Cancel, Cancelled, Workers
from dovrek.core.studio import Studio, Wish
from dovrek.sky.document import Film, Sky

SKETCH_WIDTH, DRAFT_WIDTH, PROOF_WIDTH = 240, 480, 960
PROOF_SAMPLES = 3
KEPT_PICTURES = 4
SESSIONS_KEPT = 24
FILM_PREVIEW_WIDTH = 256
QUIET_S = 0.8


@dataclass(frozen=True)
class Shown:
    """One picture sent to windows."""

    serial: int
    revision: int
    quality: str
    width: int
    height: int
    png: bytes
    ev: float
    kelvins: float
    seconds: float  # since the change it shows

    def data(self) -> dict[str, Any]:
        """What a window writes beside the picture."""
        return {"serial": self.serial, "quality": self.quality, "width": self.width,
                "height": self.height, "ev": round(self.ev, 1), "kelvins": round(self.kelvins),
                "seconds": round(self.seconds, 3), "revision": self.revision}


@dataclass
class Session:
    """What one sky's windows look at."""

    sky: Sky
    revision: int
    asked: float
    serial: int = 0
    shown: list[Shown] = field(default_factory=list)
    light: NDArray[np.float32] | None = None
    light_of: str = ""
    light_quality: str = ""
    metered: Metered | None = None  # automatic exposure and white balance of that light
    samples: int = 0
    progress: float = 0.0
    stage: str = "waiting"
    fault: str = ""
    done: bool = False


def size_for(sky: Sky, width: int) -> tuple[int, int]:
    """A frame of about width × width·9/16 pixels in the camera's aspect."""
    area = width * width * 9 / 16
    w = int(round((area * sky.camera.aspect) ** 0.5 / 2) * 2)
    return max(w, 32), max(int(round(w / sky.camera.aspect)), 32)


def light_key(sky: Sky) -> str:
    """What the light of a picture depends on: everything but name and film."""
    return sky.model_dump_json(exclude={"film", "name"})


class Live:
    """Renders for all sessions on one background thread."""

    def __init__(self, threads: int = 2) -> None:
        self.studio = Studio(threads, _be_nice)
        self._lock = threading.Condition()
        self._sessions: dict[str, Session] = {}
        self._cancel = Cancel()
        self._stop = False
        self.warm = False
        self._ribbon = Preparer(Workers(1, _be_nice))
        self._ribbon_lock = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="live picture", daemon=True)
        self.kept: Any = None  # called with (slug, revision, png) when a proof is done

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        with self._lock:
            self._stop = True
            self._cancel.set()
            self._lock.notify_all()
        self._thread.join(timeout=5)
        self.studio.close()

    def show(self, slug: str, sky: Sky, revision: int) -> Shown | None:
        """A window shows this state of a sky; work on an older one is dropped.

        When film alone has changed, the answer is a small picture of it, developed at once.
        """
        asked = time.perf_counter()
        small = self._small_of(slug, sky, revision)  # before the render thread wakes up
        self._look_at(slug, sky, revision)
        if small is None:
            return None
        light, metered, png = small
        with self._lock:
            session = self._sessions[slug]
            if session.revision != revision or session.light_of != light_key(sky):
                return None
            return self._add(session, revision, asked, session.light_quality, metered, light, png)

    def knows(self, slug: str) -> bool:
        """Whether a sky is on show."""
        with self._lock:
            return slug in self._sessions

    def _small_of(self, slug: str, sky: Sky,
                  revision: int) -> tuple[NDArray[np.float32], Metered, bytes] | None:
        """The light at hand, made small and developed anew, if film alone has changed."""
        with self._lock:
            session = self._sessions.get(slug)
            if (session is None or session.light is None or session.metered is None
                    or session.revision == revision or session.light_of != light_key(sky)):
                return None
            light, metered = session.light, session.metered.set_by(sky.film)
        stride = max(1, round(light.shape[1] / FILM_PREVIEW_WIDTH))
        small = np.ascontiguousarray(light[::stride, ::stride])
        return small, metered, _png_of(small, metered, sky.film.contrast)

    def _look_at(self, slug: str, sky: Sky, revision: int) -> None:
        with self._lock:
            session = self._sessions.get(slug)
            if session is None:
                session = self._sessions[slug] = Session(sky, revision, time.perf_counter())
                while len(self._sessions) > SESSIONS_KEPT:
                    oldest = min(self._sessions, key=lambda k: self._sessions[k].asked)
                    del self._sessions[oldest]
            elif session.revision == revision and session.sky == sky:
                if session.done or session.shown:
                    return
            session.sky, session.revision = sky, revision
            session.asked, session.done, session.fault = time.perf_counter(), False, ""
            session.progress = 0.0
            self._cancel.set()
            self._lock.notify_all()

    def wait(self, slug: str, serial: int, progress: float, revision: int,
             seconds: float) -> dict[str, Any]:
        """State of a sky's picture as soon as it differs from what the window knows."""
        end = time.monotonic() + seconds
        with self._lock:
            while True:
                session = self._sessions.get(slug)
                if session is not None and self._has_news(session, serial, progress, revision):
                    return self._state(session)
                left = end - time.monotonic()
                if left <= 0 or self._stop:
                    return self._state(session) if session else {"serial": 0, "stage": "waiting",
                                                                 "progress": 0, "warm": self.warm}
                self._lock.wait(min(left, QUIET_S / 2))

    def _has_news(self, session: Session, serial: int, progress: float, revision: int) -> bool:
        """Whether to answer a window now. What only says that work goes on waits for the first
        picture of a change: every answer takes time from that picture."""
        if session.serial != serial or session.fault:
            return True
        shown = bool(session.shown) and session.shown[-1].revision == session.revision
        if not shown and time.perf_counter() - session.asked < QUIET_S:
            return False
        return session.revision != revision or abs(session.progress - progress) > 0.04

    def _state(self, session: Session) -> dict[str, Any]:
        last = session.shown[-1] if session.shown else None
        picture = last and last.data()
        if last and picture and last.width < PROOF_WIDTH:  # the small ones come along at once
            picture["png"] = base64.b64encode(last.png).decode()
        return {
            "serial": session.serial, "revision": session.revision, "stage": session.stage,
            "progress": round(session.progress, 3), "fault": session.fault, "warm": self.warm,
            "done": session.done,
            "picture": picture,
        }

    def picture(self, slug: str, serial: int) -> Shown | None:
        with self._lock:
            session = self._sessions.get(slug)
            if session is None:
                return None
            return next((s for s in session.shown if s.serial == serial), None)

    def ribbon_atmosphere(self, sky: Sky, cancel: Cancel) -> Atmosphere:
        """Air tables for the day ribbon (its own small preparer, so that it never waits for
        a picture nor makes one wait)."""
        with self._ribbon_lock:
            return self._ribbon.atmosphere(sky, cancel, draft=True)

    # -- the rendering thread -------------------------------------------------------------

    def _next(self) -> tuple[str, Session, Cancel] | None:
        with self._lock:
            while not self._stop:
                waiting = [(k, s) for k, s in self._sessions.items() if not s.done]
                if waiting:
                    slug, session = max(waiting, key=lambda item: item[1].asked)
                    self._cancel = Cancel()
                    return slug, session, self._cancel
                self._lock.wait(5.0)
        return None

    def _run(self) -> None:
        while True:
            job = self._next()
            if job is None:
                return
            slug, session, cancel = job
            try:
                self._refine(slug, session, cancel)
            except Cancelled:
                continue
            except Exception as error:
                with self._lock:
                    session.fault = f"The picture failed: {error}. Undo the last change."
                    session.done = True
                    self._lock.notify_all()

    def _refine(self, slug: str, session: Session, cancel: Cancel) -> None:
        with self._lock:
            sky, revision, asked = session.sky, session.revision, session.asked
        key = light_key(sky)
        if session.light is not None and session.light_of == key:
            # Film alone changed: develop what there is (`show` has sent a small picture of it).
            _, metered = self._prepare(sky, session.light_quality, cancel)
            self._publish(session, revision, asked, session.light_quality, metered, sky,
                          session.light, cancel)
            if session.light_quality == "proof":
                self._settle(session, sky, revision, asked, cancel)
                self._finish(slug, session, revision)
                return
        fine = self._fine_at_hand(sky)
        self._step(session, sky, revision, asked, "glance" if fine else "sketch", SKETCH_WIDTH,
                   cancel, key)
        if not fine:
            self._stage(session, "building maps and light", 0.0, cancel)
        self._step(session, sky, revision, asked, "draft", DRAFT_WIDTH, cancel, key)
        self._step(session, sky, revision, asked, "proof", PROOF_WIDTH, cancel, key)
        self._settle(session, sky, revision, asked, cancel)
        self._finish(slug, session, revision)

    def _fine_at_hand(self, sky: Sky) -> bool:
        return self.studio.preparer.holds_scene(sky, FINE)

    def _prepare(self, sky: Sky, quality: str, cancel: Cancel) -> tuple[Any, Metered]:
        return self.studio.prepare(sky, Wish(quality=quality), cancel)

    def _step(self, session: Session, sky: Sky, revision: int, asked: float, quality: str,
              width: int, cancel: Cancel, key: str) -> None:
        settings: Quality = QUALITIES[quality]
        prepared, metered = self._prepare(sky, quality, cancel)
        size = size_for(sky, width)

        def progress(done: int, total: int) -> None:
            self._stage(session, quality, done / total, cancel)

        light = render_frame(prepared, picture_lens(sky.camera, size[0] / size[1]), size, settings,
                             self.studio.workers, cancel, progress=progress)
        unset = sky.model_copy(update={"film": Film()})
        automatic = self._prepare(unset, quality, cancel)[1]
        with self._lock:
            session.light, session.light_of, session.light_quality = light, key, quality
            session.metered = automatic
        session.samples = settings.samples
        self.warm = True
        named = "sketch" if quality == "glance" else quality
        self._publish(session, revision, asked, named, metered, sky, light, cancel)

    def _settle(self, session: Session, sky: Sky, revision: int, asked: float,
                cancel: Cancel) -> None:
        """While idle: further samples of the proof, averaged in, until its grain is gone."""
        prepared, metered = self._prepare(sky, "proof", cancel)
        while session.samples < PROOF_SAMPLES:
            light = session.light
            assert light is not None
            size = (light.shape[1], light.shape[0])

            def progress(done: int, total: int) -> None:
                share = (session.samples - 1 + done / total) / (PROOF_SAMPLES - 1)
                self._stage(session, "refining", share, cancel)

            more = render_frame(prepared, picture_lens(sky.camera, size[0] / size[1]), size,
                                QUALITIES["proof"], self.studio.workers, cancel,
                                progress=progress, first_sample=session.samples)
            count = session.samples
            session.light = (light * count + more) / np.float32(count + 1)
            session.samples = count + 1
            self._publish(session, revision, asked, "proof", metered, sky, session.light, cancel)

    def _stage(self, session: Session, stage: str, progress: float, cancel: Cancel) -> None:
        if cancel.is_set:
            return
        with self._lock:
            session.stage, session.progress = stage, progress
            self._lock.notify_all()

    def _publish(self, session: Session, revision: int, asked: float, quality: str,
                 metered: Metered, sky: Sky, light: NDArray[np.float32], cancel: Cancel) -> None:
        png = _png_of(light, metered, sky.film.contrast, self.studio.workers.over(cancel, 45))
        cancel.check()
        with self._lock:
            self._add(session, revision, asked, quality, metered, light, png)

    def _add(self, session: Session, revision: int, asked: float, quality: str, metered: Metered,
             light: NDArray[np.float32], png: bytes) -> Shown:
        """Show a picture to the windows; the lock is held."""
        session.serial += 1
        shown = Shown(session.serial, revision, quality, light.shape[1], light.shape[0], png,
                      metered.ev, metered.kelvins, time.perf_counter() - asked)
        session.shown.append(shown)
        del session.shown[:-KEPT_PICTURES]
        self._lock.notify_all()
        return shown

    def _finish(self, slug: str, session: Session, revision: int) -> None:
        with self._lock:
            if session.revision != revision:
                return
            session.done, session.progress, session.stage = True, 1.0, "proof"
            last = session.shown[-1].png
            self._lock.notify_all()
        if self.kept is not None:
            self.kept(slug, revision, last)


def _png_of(light: NDArray[np.float32], metered: Metered, contrast: float,
            run: Any = lambda f, n: f(0, n)) -> bytes:
    pixels = develop(light, metered.ev, metered.kelvins, contrast, run=run)
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG", compress_level=1)
    return buffer.getvalue()


def _be_nice() -> None:
    """Let the pages go first: render threads yield to the threads that answer."""
    try:
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 8)
    except (AttributeError, OSError):
        return

