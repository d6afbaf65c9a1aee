"""The live picture: each sky on show is rendered in steps, newest change first.

One thread renders for all windows. A change drops the work in hand at once; what is shown goes
from sketch over draft to proof. Changes of film alone re-develop the light at hand. Boards of small
pictures are painted when no window waits for a first picture, before one that is there is refined.
"""

from __future__ import annotations

import threading
import time
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.probe import lids_of
from dovrek.core.picture.render import QUALITIES, Metered, render_frame
from dovrek.core.picture.studio import Studio, Wish, holed
from dovrek.core.prepare.atmosphere import Atmosphere
from dovrek.core.prepare.fineness import SKETCH_WIDTH
from dovrek.core.prepare.preparer import Prepared, Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.settings import REFINED
from dovrek.sky.document import Film, Sky
from dovrek.web.live.boards import Board, Boards, Frame
from dovrek.web.live.judging import cover_by_ratio, seen_in
from dovrek.web.live.looks import (
    UNSEEN,
    Look,
    Session,
    Shown,
    Turn,
    be_nice,
    bitmap_of,
    left_moments,
    light_key,
    named,
    png_of,
    whole,
)
from dovrek.web.live.windows import Key, Windows

TRIAL_BYTES = 250 * 2**20  # of what boards try, beside what the picture keeps
RIBBON_BYTES = 60 * 2**20  # of airs, some 2 MB each
PROOF_WIDTH = 960
PROOF_SAMPLES = 3
SESSIONS_KEPT = 24
FILM_PREVIEW_WIDTH, HAND_WIDTH = 256, 160
WARM_S, RIBBONS_WAIT = 150.0, 4  # that day ribbons let a new machine's first picture go first
HURRIED_S = 0.1  # after a picture, in which the next one may still be dropped for a newer change
ANSWER_S = 0.04  # in which an answer that holds its picture is sent and painted


class Warming(Exception):
    """A new machine compiles what the first picture needs; what else is asked for comes after."""


class Live(Windows):
    """Renders for all sessions and boards on one background thread."""

    def __init__(self, threads: int = 2, width: int = PROOF_WIDTH,
                 refine: str = REFINED[-1]) -> None:
        super().__init__(width)
        draft = max(width // 2, min(width, SKETCH_WIDTH))  # not smaller than what it follows
        self.steps = (("glance", SKETCH_WIDTH), ("draft", draft),
                      ("proof", width))[:REFINED.index(refine) + 1]
        self.studio = Studio(threads, be_nice)
        self.trials = Preparer(self.studio.workers, StageCache(
            TRIAL_BYTES, self.studio.preparer.cache))
        self.boards = Boards(self._lock)
        self._cancel = Cancel()
        self._refining = False  # the work in hand may give way to a board
        self._in_hand = False  # a hand drags what it shows
        self._quiet_until = 0.0
        self._shown_at = 0.0
        self._ribbon = Studio(1, be_nice, RIBBON_BYTES).preparer
        self._ribbon_lock, self._ribbons_waiting = threading.Lock(), 0
        self._thread = threading.Thread(target=self._run, name="live picture", daemon=True)
        self.kept: Any = None  # called with (slug, revision, picture) when it is made

    def start(self) -> None:
        self.compiling = self.studio.compile_ahead()
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

    def show(self, slug: str, sky: Sky, revision: int, look: Look = Look(),  # noqa: B008
             held: bool = False) -> Shown | None:
        """A window shows this state of a sky; work on an older one gives way. `held`: a hand holds
        what it changes, and will hardly leave it there.

        When film alone has changed, the answer is a small picture of it, developed at once.
        """
        asked = time.perf_counter()
        small = self._small_of((slug, look), sky)  # before the render thread wakes up
        self._look_at(slug, sky, revision, look, 0.0 if small is None else ANSWER_S, held)
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
            held = self._sessions.get((slug, Look()))
            if held is None:
                self._sessions[slug, Look()] = Session(sky, revision, time.perf_counter(), Look(),
                                                       polled=UNSEEN)
            elif not held.watched:
                held.turn_to(sky, revision, time.perf_counter())
            self._lock.notify_all()

    def hush(self) -> None:
        """A change is being taken in: leave the processor to it for a moment."""
        with self._lock:
            self._quiet_until = time.monotonic() + ANSWER_S
            self._give_way()

    def _give_way(self) -> None:
        """Drop the work in hand for a newer change; the lock is held. A first picture is finished
        unless another was shown just now; while a hand drags, even then: the next change comes
        before any could be done, and nothing would be seen to move."""
        hurried = not self._in_hand and time.monotonic() - self._shown_at < HURRIED_S
        if self._refining or hurried:
            self._cancel.set()

    def order(self, board: Board) -> Board:
        """Take a board on; refining what is already shown gives way to it."""
        self.boards.add(board)
        with self._lock:
            if self._refining:
                self._cancel.set()
            self._lock.notify_all()
        return board

    def _small_of(self, key: Key,
                  sky: Sky) -> tuple[NDArray[np.float32], Metered, bytes] | None:
        """The light at hand, made small and developed anew, if film alone has changed."""
        with self._lock:
            session = self._sessions.get(key)
            held = session.held_for(key[1].seen(sky)) if session is not None else None
        if held is None:
            return None
        light, metered = held[0], held[1].set_by(sky.film).seen_in(key[1].view)
        stride = max(1, round(light.shape[1] / FILM_PREVIEW_WIDTH))
        small = np.ascontiguousarray(light[::stride, ::stride])
        return small, metered, bitmap_of(whole(small, sky, key[1], metered), metered)

    def _look_at(self, slug: str, sky: Sky, revision: int, look: Look, rest_s: float,
                 held: bool) -> None:
        with self._lock:
            for key, other in self._sessions.items():  # other views of it that are open
                if key[0] == slug and key[1] != look and other.watched:
                    other.turn_to(sky, revision, time.perf_counter() - 1e-3)
            if look.clip_s is not None:  # moments that a hand has left are not waited for
                for key in left_moments(self._sessions, slug, look):
                    del self._sessions[key]
            session = self._sessions.get((slug, look))
            if session is None:
                self._sessions[slug, look] = Session(look.seen(sky), revision,
                                                     time.perf_counter(), look)
                while len(self._sessions) > SESSIONS_KEPT:
                    del self._sessions[min(self._sessions,
                                           key=lambda k: self._sessions[k].asked)]
            else:
                self._watch(session)
                now = time.perf_counter()
                if not session.turn_to(sky, revision, now, held) and session.answered:
                    return
            self._give_way()
            self._quiet_until = time.monotonic() + rest_s
            self._lock.notify_all()

    def ribbon_atmosphere(self, sky: Sky, cancel: Cancel) -> Atmosphere:
        """Air tables for the day ribbon, by a small preparer of its own: neither waits for the
        other. But on a new machine the ribbon's kernels are compiled after the first picture's; few
        wait for that, for each holds a thread of the server. Raises Warming for the others."""
        with self._lock:
            if self.compiling and not self.warm:
                if self._ribbons_waiting >= RIBBONS_WAIT:
                    raise Warming("The day ribbon comes after the first picture.")
                self._ribbons_waiting += 1
                self._lock.wait_for(lambda: self.warm or self._stop, WARM_S)
                self._ribbons_waiting -= 1
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
                waiting = [item for item in self._sessions.items() if item[1].wants]
                first = [item for item in waiting if not item[1].answered and item[1].watched]
                rests = max((s.moves_until for s in self._sessions.values()), default=0.0)
                if not first and rests > time.perf_counter():
                    # A hand drags: its next value finds the threads free.
                    self._lock.wait(rests - time.perf_counter())
                    continue
                frame = None if first else self.boards.next_frame()
                if not (first or waiting or frame):
                    frame = self.boards.next_frame(patient=True)
                if first or waiting or frame:
                    self._cancel = Cancel()
                    self._refining = frame[0].patient if frame else not first
                    newest = max(first or waiting, key=lambda item: item[1].asked, default=None)
                    self._in_hand = not frame and bool(newest and newest[1].in_hand)
                    return frame or newest
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
        look = board.look if frame.clip_s is None else board.look._replace(clip_s=frame.clip_s)
        if quality == "sketch" and self.studio.holds(sky, look.wish(sky, 64, quality), self.trials):
            quality = "glance"
        wish = look.wish(sky, board.width, quality, board.soon)
        prepared, metered = self.studio.prepare(sky, wish, cancel, self.trials)
        light = self._light(prepared, wish, sky, cancel)
        self.boards.painted(board, frame, png_of(whole(light, sky, look, metered), metered))

    def _light(self, prepared: Prepared, wish: Wish, sky: Sky, cancel: Cancel,
               **more: Any) -> NDArray[np.float32]:
        """Light of a wish, with a hole where a picture stands behind."""
        return render_frame(prepared, wish.lens(sky), (wish.width, wish.height), wish.settings,
                            self.studio.workers, cancel, sky=holed(wish, sky).sky, **more)

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
            if not session.wants:  # its window was closed
                self._leave(slug, session, at)
                return
            moves = session.moves_until > time.perf_counter()
            if moves and width != SKETCH_WIDTH:
                return
            if quality == "glance":
                quality, width = self._first(session, sky, moves)
                if quality == have:
                    continue
            self._step(session, sky, at, quality, width, cancel, key)
            if QUALITIES[quality].in_hand:  # what follows waits until the hand rests
                return
            if quality == "sketch":
                self._stage(session, "building maps and light", 0.0, cancel)
            with self._lock:
                if session.turn != at.number:  # a newer change waited for this picture
                    return
                self._refining = True
                if self.boards.next_frame() is not None:
                    return
        if len(self.steps) == len(REFINED):
            self._lay_ready(session, sky, cancel)
            self._settle(session, sky, at, cancel)
            if session.samples < PROOF_SAMPLES:
                self._leave(slug, session, at)
                return
            self._judge(session, sky, at, cancel)
        self._finish(slug, session, at)

    def _first(self, session: Session, sky: Sky, moves: bool) -> tuple[str, int]:
        """Quality and width of the first picture of a state; `moves`: a hand is at it."""
        fine = self.studio.holds(sky, session.look.wish(sky, 64, "glance"))
        if moves:
            return "swift" if fine else "hand", HAND_WIDTH
        return "glance" if fine else "sketch", SKETCH_WIDTH

    def _step(self, session: Session, sky: Sky, at: Turn, quality: str, width: int,
              cancel: Cancel, key: str) -> None:
        wish = session.look.wish(sky, width, quality, soon=quality in ("sketch", "hand"))
        film = session.look.told(sky).film
        unset = sky.model_copy(update={"film": Film(expose_for=film.expose_for)})
        prepared, automatic = self.studio.prepare(unset, wish, cancel)
        metered = automatic.set_by(film).seen_in(wish.view)
        light = self._light(prepared, wish, sky, cancel, progress=lambda done, total: self._stage(
            session, named(quality), done / total, cancel))
        with self._lock:
            session.light, session.light_of, session.light_quality = light, key, quality
            session.metered = automatic
        session.samples = wish.settings.samples
        self.warm = True
        self._publish(session, at, quality, metered, sky, light, cancel)

    def _settle(self, session: Session, sky: Sky, at: Turn, cancel: Cancel) -> None:
        """While idle: further samples of the proof, averaged in, until its grain is gone."""
        wish = session.look.wish(sky, self.width, "proof")
        prepared, metered = self.studio.prepare(sky, wish, cancel)
        while session.samples < PROOF_SAMPLES and session.watched:
            light = session.light
            assert light is not None
            def progress(done: int, total: int) -> None:
                share = (session.samples - 1 + done / total) / (PROOF_SAMPLES - 1)
                self._stage(session, "refining", share, cancel)

            more = self._light(prepared, wish, sky, cancel, progress=progress,
                               first_sample=session.samples)
            count = session.samples
            session.light = (light * count + more) / np.float32(count + 1)
            session.samples = count + 1
            self._publish(session, at, "proof", metered, sky, session.light, cancel)

    def _lay_ready(self, session: Session, sky: Sky, cancel: Cancel) -> None:
        """What pictures under a hand stand on, so that a drag shows its first at once."""
        if session.watched:
            self.studio.prepare(sky, session.look.wish(sky, HAND_WIDTH, "hand", soon=True), cancel)

    def _judge(self, session: Session, sky: Sky, at: Turn, cancel: Cancel) -> None:
        """What the finished picture tells for the advisories."""
        wish = session.look.wish(sky, self.width, "proof")
        _, metered = self.studio.prepare(sky, wish, cancel)
        light = session.light
        if light is None or session.look.from_above:
            return
        lids = lids_of(sky, self.studio.preparer, cancel)
        cover_at = cover_by_ratio(light, metered, sky) if session.look == Look() else None
        with self._lock:
            if session.turn == at.number:
                session.seen, session.cover_at = seen_in(light, metered, lids), cover_at

    def _stage(self, session: Session, stage: str, progress: float, cancel: Cancel) -> None:
        with self._lock:
            if cancel.is_set:
                return
            session.stage, session.progress = stage, progress
            self._lock.notify_all()

    def _publish(self, session: Session, at: Turn, quality: str,
                 metered: Metered, sky: Sky, light: NDArray[np.float32], cancel: Cancel) -> None:
        seen = whole(light, sky, session.look, metered)
        image = bitmap_of(seen, metered) if QUALITIES[quality].in_hand else png_of(
            seen, metered, self.studio.workers.over(cancel, 45))
        cancel.check()
        with self._lock:
            self._add(session, at, named(quality), metered, light, image)

    def _add(self, session: Session, at: Turn, quality: str, metered: Metered,
             light: NDArray[np.float32], png: bytes) -> Shown:
        """Show a picture to the windows; the lock is held."""
        shown = session.add(at, quality, metered, light, png)
        self._shown_at = time.monotonic()
        self._lock.notify_all()
        return shown

    def _finish(self, slug: str, session: Session, at: Turn) -> None:
        with self._lock:
            if session.turn != at.number:
                return
            session.done, session.progress = True, 1.0
            session.stage = named(session.light_quality)
            last = session.shown[-1].image
            self._lock.notify_all()
        self._keep(slug, session, at, last)

    def _leave(self, slug: str, session: Session, at: Turn) -> None:
        """Keep what there is of a state that no window waits for; one that comes back goes on."""
        with self._lock:
            last = session.shown[-1].image if session.answered else None
        if last is not None:
            self._keep(slug, session, at, last)

    def _keep(self, slug: str, session: Session, at: Turn, last: bytes) -> None:
        if self.kept is not None and session.look == Look():
            self.kept(slug, at.revision, last)
