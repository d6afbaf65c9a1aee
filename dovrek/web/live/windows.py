"""What windows ask of the live picture: how far it is, and the pictures it has made."""

from __future__ import annotations

import threading
import time
from typing import Any

from dovrek.core.picture.ahead import compiled_share
from dovrek.sky.advisories import Seen
from dovrek.web.live.looks import QUIET_S, Known, Look, Session, Shown

WAITS_MOST = 12  # windows that may wait for news at once: half of the server's threads
AGAIN_S = 1.0

Key = tuple[str, Look]


class Windows:
    """The looks at skies that windows have open; pictures are another thread's to make."""

    def __init__(self, width: int) -> None:
        self.width = width
        self._lock = threading.Condition()
        self._sessions: dict[Key, Session] = {}
        self._stop = False
        self.warm = False
        self.compiling = False  # for the first time on this machine
        self._waits = 0

    def knows(self, slug: str, look: Look = Look()) -> bool:  # noqa: B008
        """Whether this look at a sky is on show."""
        with self._lock:
            return (slug, look) in self._sessions

    def session(self, slug: str, look: Look) -> Session | None:
        with self._lock:
            return self._sessions.get((slug, look))

    def turn(self, slug: str, look: Look) -> int | None:
        """Which of its states this look at a sky was turned to last."""
        session = self.session(slug, look)
        return None if session is None else session.turn

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

    def wait(self, slug: str, known: Known, seconds: float,
             look: Look = Look()) -> dict[str, Any]:  # noqa: B008
        """State of a sky's picture as soon as it differs from what the window knows.

        Each that waits holds a thread of the server: once many do, further ones are answered at
        once and told after how long to ask again (`again_s`).
        """
        with self._lock:
            if self._waits >= WAITS_MOST:
                session = self._sessions.get((slug, look))
                self._watch(session)
                return self._told(session) | {"again_s": AGAIN_S}
            self._waits += 1
            try:
                return self._waited(slug, known, seconds, look)
            finally:
                self._waits -= 1

    def _watch(self, session: Session | None) -> None:
        """What was left when its windows were closed goes on; the lock is held."""
        if session is not None and session.watch():
            self._lock.notify_all()

    def _told(self, session: Session | None) -> dict[str, Any]:
        return session.told(self.width, self.warm) if session is not None else {
            "serial": 0, "stage": "waiting", "progress": 0, "warm": self.warm}

    def _waited(self, slug: str, known: Known, seconds: float, look: Look) -> dict[str, Any]:
        """The lock is held, and given while it waits."""
        end = time.monotonic() + seconds
        while True:
            session = self._sessions.get((slug, look))
            self._watch(session)
            if session is not None:
                if self.compiling and not self.warm and not session.shown:
                    session.stage, session.progress = "compiling", compiled_share()
                if session.has_news(known):
                    return self._told(session)
            left = end - time.monotonic()
            if left <= 0 or self._stop:
                return self._told(session)
            self._lock.wait(min(left, QUIET_S / 2))

    def picture(self, slug: str, serial: int, look: Look = Look()) -> Shown | None:  # noqa: B008
        with self._lock:
            session = self._sessions.get((slug, look))
            shown = session.shown if session is not None else []
            return next((s for s in shown if s.serial == serial), None)
