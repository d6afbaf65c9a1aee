"""The live picture: each sky on show is rendered in steps, newest change first.

One thread renders for all windows. A change drops the work in hand at once; what is shown goes
from sketch over draft to proof. Changes of film alone re-develop the light at hand. Boards of
small pictures are painted when no window waits for the first picture of a change, before a
picture that is already there is refined.
"""

from __future__ import annotations

import base64
import math
import os
import threading
import time
from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.film import MIDDLE_GREY, develop, white_luminance
from dovrek.core.photo.likeness import likeness_of
from dovrek.core.picture.probe import lids_of
from dovrek.core.picture.render import QUALITIES, Metered, Quality, render_frame
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.core.prepare.fineness import FINE, SKETCH_WIDTH
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel, Cancelled, Workers
from dovrek.sky.advisories import BURNT_SHARE, Seen
from dovrek.sky.document import Film, Sky
from dovrek.web.live.boards import Board, Boards, Frame
from dovrek.web.live.looks import (
    BURNT_FROM,
    UNSEEN,
    Look,
    Session,
    Shown,
    Turn,
    bitmap_of,
    horizon_share,
    light_key,
    png_of,
)

TRIAL_BYTES = 250 * 2**20  # of what boards try, beside what the picture keeps
PROOF_WIDTH = 960
PROOF_SAMPLES = 3
KEPT_PICTURES = 4
SESSIONS_KEPT = 24
FILM_PREVIEW_WIDTH = 256
QUIET_S = 0.8
HURRIED_S = 0.1  # after a picture, in which the next one may still be dropped for a newer change
ANSWER_S = 0.04  # in which an answer that holds its picture is sent and painted
LOOKED_AT_S = 20.0  # a look that no window has asked for so long is not followed

Key = tuple[str, Look]


class Live:
    """Renders for all sessions and boards on one background thread."""

    def __init__(self, threads: int = 2, width: int = PROOF_WIDTH) -> None:
        self.width = width
        self.steps = (("glance", SKETCH_WIDTH), ("draft", width // 2), ("proof", width))
        self.studio = Studio(threads, _be_nice)
        self.trials = Preparer(self.studio.workers, StageCache(
            TRIAL_BYTES, self.studio.preparer.cache))
        self._lock = threading.Condition()
        self._sessions: dict[Key, Session] = {}
        self.boards = Boards(self._lock)
        self._cancel = Cancel()
        self._refining = False  # the work in hand may give way to a board
        self._stop = False
        self._quiet_until = 0.0
        self._shown_at = 0.0
        self.warm = False
        self._ribbon = Preparer(Workers(1, _be_nice))
        self._ribbon_lock = threading.Lock()
        self._thread = threading.Thread(target=self._run, name="live picture", daemon=True)
        self.kept: Any = None  # called with (slug, revision, picture) when it is made

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        with self._lock:
            self._stop = True
            self._cancel.set()
            self._lock.notify_all()
        if self._thread.is_alive():
            self._thread.join(timeout=5)
        self.studio.close()

    # -- what windows ask -----------------------------------------------------------------

    def show(self, slug: str, sky: Sky, revision: int, look: Look = Look()) -> Shown | None:  # noqa: B008
        """A window shows this state of a sky; work on an older one gives way.

        When film alone has changed, the answer is a small picture of it, developed at once.
        """
        asked = time.perf_counter()
        small = self._small_of((slug, look), sky)  # before the render thread wakes up
        self._look_at(slug, sky, revision, look, 0.0 if small is None else ANSWER_S)
        if small is None:
            return None
        light, metered, png = small
        with self._lock:
            session = self._sessions[slug, look]
            if session.revision != revision or session.light_of != light_key(look.seen(sky)):
                return None
            at = Turn(session.turn, revision, asked)
            return self._add(session, at, session.light_quality, metered, light, png)

    def paint(self, slug: str, sky: Sky, revision: int) -> None:
        """Make a draft of a sky that no window shows, for `kept`, when there is nothing else to
        do."""
        with self._lock:
            self._sessions.setdefault((slug, Look()), Session(sky, revision, time.perf_counter(),
                                                              Look(), polled=UNSEEN))
            self._lock.notify_all()

    def hush(self) -> None:
        """A change is being taken in: leave the processor to it for a moment."""
        with self._lock:
            self._quiet_until = time.monotonic() + ANSWER_S
            self._give_way()

    def _give_way(self) -> None:
        """Drop the work in hand for a newer change; the lock is held.

        A first picture is finished unless another was shown just now: while a hand drags, the
        next change comes before any picture could be done, and nothing would be seen to move.
        """
        if self._refining or time.monotonic() - self._shown_at < HURRIED_S:
            self._cancel.set()

    def order(self, board: Board) -> Board:
        """Take a board on; refining what is already shown gives way to it."""
        self.boards.add(board)
        with self._lock:
            if self._refining:
                self._cancel.set()
            self._lock.notify_all()
        return board

    def knows(self, slug: str, look: Look = Look()) -> bool:  # noqa: B008
        """Whether this look at a sky is on show."""
        with self._lock:
            return (slug, look) in self._sessions

    def session(self, slug: str, look: Look) -> Session | None:
        with self._lock:
            return self._sessions.get((slug, look))

    def seen(self, slug: str, look: Look, revision: int) -> Seen:
        """What the picture of this state of a sky tells (nothing before it is done)."""
        with self._lock:
            session = self._sessions.get((slug, look))
            if session is None or session.revision != revision or session.seen is None:
                return Seen()
            return session.seen

    def cover_at(self, slug: str, look: Look, revision: int, ratio: float) -> float | None:
        """Oktas of the picture of this state by a ratio of red to blue; None before it is done."""
        with self._lock:
            session = self._sessions.get((slug, look))
            judged = session is not None and session.revision == revision and session.seen
            by_ratio = session.cover_at if session is not None and judged else None
        return by_ratio(ratio) if by_ratio is not None else None

    def _small_of(self, key: Key,
                  sky: Sky) -> tuple[NDArray[np.float32], Metered, bytes] | None:
        """The light at hand, made small and developed anew, if film alone has changed."""
        with self._lock:
            session = self._sessions.get(key)
            if (session is None or session.light is None or session.metered is None
                    or session.sky == key[1].seen(sky)
                    or session.light_of != light_key(key[1].seen(sky))):
                return None
            light, metered = session.light, session.metered.set_by(sky.film)
        stride = max(1, round(light.shape[1] / FILM_PREVIEW_WIDTH))
        small = np.ascontiguousarray(light[::stride, ::stride])
        return small, metered, bitmap_of(small, metered)

    def _look_at(self, slug: str, sky: Sky, revision: int, look: Look, rest_s: float) -> None:
        with self._lock:
            for key, other in self._sessions.items():  # other views of it that are open
                if key[0] == slug and key[1] != look and (
                        time.monotonic() - other.polled < LOOKED_AT_S):
                    self._turn_to(other, sky, revision, time.perf_counter() - 1e-3)
            session = self._sessions.get((slug, look))
            if session is None:
                self._sessions[slug, look] = Session(look.seen(sky), revision,
                                                     time.perf_counter(), look)
                while len(self._sessions) > SESSIONS_KEPT:
                    del self._sessions[min(self._sessions,
                                           key=lambda k: self._sessions[k].asked)]
            else:
                session.polled = time.monotonic()
                if not self._turn_to(session, sky, revision, time.perf_counter()) and (
                        session.answered):
                    return
            self._give_way()
            self._quiet_until = time.monotonic() + rest_s
            self._lock.notify_all()

    @staticmethod
    def _turn_to(session: Session, sky: Sky, revision: int, asked: float) -> bool:
        """Let a session show a state of its sky; whether there is anything to do."""
        sky = session.look.seen(sky)
        if session.revision == revision and session.sky == sky and (
                session.done or session.shown):
            return False
        session.sky, session.revision, session.asked = sky, revision, asked
        session.turn += 1
        session.done, session.fault, session.progress = False, "", 0.0
        session.seen = None
        return True

    def wait(self, slug: str, serial: int, progress: float, revision: int,
             seconds: float, look: Look = Look()) -> dict[str, Any]:  # noqa: B008
        """State of a sky's picture as soon as it differs from what the window knows."""
        end = time.monotonic() + seconds
        with self._lock:
            while True:
                session = self._sessions.get((slug, look))
                if session is not None:
                    session.polled = time.monotonic()
                    if self._has_news(session, serial, progress, revision):
                        return self._state(session)
                left = end - time.monotonic()
                if left <= 0 or self._stop:
                    return self._state(session) if session else {"serial": 0, "stage": "waiting",
                                                                 "progress": 0, "warm": self.warm}
                self._lock.wait(min(left, QUIET_S / 2))

    def _has_news(self, session: Session, serial: int, progress: float, revision: int) -> bool:
        """Whether to answer a window now. What only says that work goes on waits for the first
        picture of a change: every answer takes time from that picture."""
        if session.serial != serial or session.fault or session.done and progress < 1.0:
            return True
        if not session.answered and time.perf_counter() - session.asked < QUIET_S:
            return False
        return session.revision != revision or abs(session.progress - progress) > 0.04

    def _state(self, session: Session) -> dict[str, Any]:
        last = session.shown[-1] if session.shown else None
        picture = last and last.data()
        if last and picture and last.width < 0.9 * self.width:  # the small ones come along
            picture["image"] = base64.b64encode(last.image).decode()
        return {
            "serial": session.serial, "revision": session.revision, "stage": session.stage,
            "progress": 1.0 if session.done else min(round(session.progress, 3), 0.999),
            "fault": session.fault, "warm": self.warm,
            "done": session.done,
            "picture": picture,
        }

    def picture(self, slug: str, serial: int, look: Look = Look()) -> Shown | None:  # noqa: B008
        with self._lock:
            session = self._sessions.get((slug, look))
            if session is None:
                return None
            return next((s for s in session.shown if s.serial == serial), None)

    def ribbon_atmosphere(self, sky: Sky, cancel: Cancel) -> Atmosphere:
        """Air tables for the day ribbon (its own small preparer, so that it never waits for
        a picture nor makes one wait)."""
        with self._ribbon_lock:
            return self._ribbon.atmosphere(sky, cancel, draft=True)

    # -- the rendering thread -------------------------------------------------------------

    def _next(self) -> tuple[Key, Session] | tuple[Board, Frame] | None:
        """The most urgent work: a change without a picture, then boards, then refinement."""
        with self._lock:
            while not self._stop:
                quiet = self._quiet_until - time.monotonic()
                if quiet > 0.0:
                    self._lock.wait(quiet)
                    continue
                waiting = [(k, s) for k, s in self._sessions.items()
                           if not s.done and not (s.unseen and s.light_quality == "draft")]
                first = [item for item in waiting if not item[1].answered
                         and time.monotonic() - item[1].polled < LOOKED_AT_S]
                frame = None if first else self.boards.next_frame()
                if not (first or waiting or frame):
                    frame = self.boards.next_frame(patient=True)
                if first or waiting or frame:
                    self._cancel = Cancel()
                    self._refining = frame[0].patient if frame else not first
                    return frame or max(first or waiting, key=lambda item: item[1].asked)
                self._lock.wait(5.0)
        return None

    def _run(self) -> None:
        while True:
            job = self._next()
            if job is None:
                return
            cancel = self._cancel
            turn = 0 if isinstance(job[1], Frame) else job[1].turn
            try:
                if isinstance(job[0], Board):
                    assert isinstance(job[1], Frame)
                    self._paint(job[0], job[1], cancel)
                else:
                    assert isinstance(job[1], Session)
                    self._refine(job[0][0], job[1], cancel)
            except Cancelled:
                continue
            except Exception as error:
                self._fail(job[1], error, turn)

    def _fail(self, what: Frame | Session, error: Exception, turn: int) -> None:
        if isinstance(what, Frame):
            self.boards.failed(what, f"This picture failed: {error}")
            return
        with self._lock:
            if what.turn != turn:  # a newer state is there, and may do better
                return
            what.fault = f"The picture failed: {error}. Undo the last change."
            what.done = True
            self._lock.notify_all()

    def _paint(self, board: Board, frame: Frame, cancel: Cancel) -> None:
        """One small picture of a board, from what the main picture has and trials of its own."""
        sky, quality = frame.sky, board.quality
        if quality == "sketch" and self.trials.holds_scene(sky, FINE):
            quality = "glance"
        wish = board.look.wish(sky, board.width, quality)
        prepared, metered = self.studio.prepare(sky, wish, cancel, self.trials)
        light = render_frame(prepared, wish.lens(sky), (wish.width, wish.height), wish.settings,
                             self.studio.workers, cancel)
        self.boards.painted(board, frame, png_of(light, metered))

    def _refine(self, slug: str, session: Session, cancel: Cancel) -> None:
        with self._lock:
            sky, at = session.sky, session.state()
        key, have = light_key(sky), ""
        if session.light is not None and session.light_of == key:
            have = session.light_quality
            if not session.answered or session.shown[-1].width != session.light.shape[1]:
                # Film alone changed: develop what there is (`show` has sent a small picture).
                wish = session.look.wish(sky, self.width, have)
                _, metered = self.studio.prepare(sky, wish, cancel)
                self._publish(session, at, have, metered, sky, session.light, cancel)
        names = [name for name, _ in self.steps]
        done = names.index(have) + 1 if have in names else 0
        for quality, width in self.steps[done:]:
            if quality == "glance" and not self.studio.preparer.holds_scene(sky, FINE):
                if have == "sketch":
                    continue
                quality = "sketch"
            self._step(session, sky, at, quality, width, cancel, key)
            if session.unseen and quality == "draft":
                with self._lock:
                    last = session.shown[-1].image
                self._keep(slug, session, at, last)
                return
            if quality == "sketch":
                self._stage(session, "building maps and light", 0.0, cancel)
            with self._lock:
                if session.turn != at.number:  # a newer change waited for this picture
                    return
                self._refining = True
                if self.boards.next_frame() is not None:
                    return
        self._settle(session, sky, at, cancel)
        self._judge(session, sky, at, cancel)
        self._finish(slug, session, at)

    def _step(self, session: Session, sky: Sky, at: Turn, quality: str, width: int,
              cancel: Cancel, key: str) -> None:
        settings: Quality = QUALITIES[quality]
        wish = session.look.wish(sky, width, quality)
        prepared, metered = self.studio.prepare(sky, wish, cancel)

        def progress(done: int, total: int) -> None:
            self._stage(session, quality, done / total, cancel)

        light = render_frame(prepared, wish.lens(sky), (wish.width, wish.height), settings,
                             self.studio.workers, cancel, progress=progress)
        unset = sky.model_copy(update={"film": Film()})
        automatic = self.studio.prepare(unset, wish, cancel)[1]
        with self._lock:
            session.light, session.light_of, session.light_quality = light, key, quality
            session.metered = automatic
        session.samples = settings.samples
        self.warm = True
        self._publish(session, at, quality, metered, sky, light, cancel)

    def _settle(self, session: Session, sky: Sky, at: Turn, cancel: Cancel) -> None:
        """While idle: further samples of the proof, averaged in, until its grain is gone."""
        wish = session.look.wish(sky, self.width, "proof")
        prepared, metered = self.studio.prepare(sky, wish, cancel)
        while session.samples < PROOF_SAMPLES:
            light = session.light
            assert light is not None

            def progress(done: int, total: int) -> None:
                share = (session.samples - 1 + done / total) / (PROOF_SAMPLES - 1)
                self._stage(session, "refining", share, cancel)

            more = render_frame(prepared, wish.lens(sky), (wish.width, wish.height),
                                QUALITIES["proof"], self.studio.workers, cancel,
                                progress=progress, first_sample=session.samples)
            count = session.samples
            session.light = (light * count + more) / np.float32(count + 1)
            session.samples = count + 1
            self._publish(session, at, "proof", metered, sky, session.light, cancel)

    def _judge(self, session: Session, sky: Sky, at: Turn, cancel: Cancel) -> None:
        """What the finished picture tells for the advisories."""
        wish = session.look.wish(sky, self.width, "proof")
        _, metered = self.studio.prepare(sky, wish, cancel)
        light = session.light
        if light is None or session.look.from_above:
            return
        white = MIDDLE_GREY * white_luminance(metered.ev) * 2.0**BURNT_FROM
        burnt = float(np.mean(light[..., 1] > white))
        over = float(np.quantile(light[..., 1], 1.0 - BURNT_SHARE)) / white
        held_ev = metered.ev + max(math.log2(max(over, 1e-9)), 0.0)
        lids = lids_of(sky, self.studio.preparer, cancel)
        cover_at = None
        if session.look == Look():
            shown, ends = np.asarray(develop(light, *metered), dtype=np.uint8), horizon_share(sky)

            @lru_cache(maxsize=4)
            def cover_at(ratio: float) -> float | None:
                return likeness_of(shown, ends, ratio).cover_oktas

        with self._lock:
            if session.turn == at.number:
                session.seen, session.cover_at = Seen(burnt, held_ev, lids), cover_at

    def _stage(self, session: Session, stage: str, progress: float, cancel: Cancel) -> None:
        if cancel.is_set:
            return
        with self._lock:
            session.stage, session.progress = stage, progress
            self._lock.notify_all()

    def _publish(self, session: Session, at: Turn, quality: str,
                 metered: Metered, sky: Sky, light: NDArray[np.float32], cancel: Cancel) -> None:
        png = png_of(light, metered, self.studio.workers.over(cancel, 45))
        cancel.check()
        with self._lock:
            self._add(session, at, _named(quality), metered, light, png)

    def _add(self, session: Session, at: Turn, quality: str, metered: Metered,
             light: NDArray[np.float32], png: bytes) -> Shown:
        """Show a picture to the windows; the lock is held."""
        session.serial += 1
        self._shown_at = time.monotonic()
        shown = Shown(session.serial, at.revision, quality, light.shape[1], light.shape[0], png,
                      metered.ev, metered.kelvins, time.perf_counter() - at.asked)
        session.shown_turn = at.number
        session.shown.append(shown)
        del session.shown[:-KEPT_PICTURES]
        self._lock.notify_all()
        return shown

    def _finish(self, slug: str, session: Session, at: Turn) -> None:
        with self._lock:
            if session.turn != at.number:
                return
            session.done, session.progress, session.stage = True, 1.0, "proof"
            last = session.shown[-1].image
            self._lock.notify_all()
        self._keep(slug, session, at, last)

    def _keep(self, slug: str, session: Session, at: Turn, last: bytes) -> None:
        if self.kept is not None and session.look == Look():
            self.kept(slug, at.revision, last)


def _named(quality: str) -> str:
    """A quality in the artist's words."""
    return "sketch" if quality == "glance" else quality


def _be_nice() -> None:
    """Let the pages go first: render threads yield to the threads that answer."""
    try:
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 8)
    except (AttributeError, OSError):
        return
