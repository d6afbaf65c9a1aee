"""Work that takes seconds, done beside the pages: one piece at a time, the newest asked for."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from typing import Any, Generic, TypeVar

from dovrek.core.run.workers import Cancel, Cancelled

T = TypeVar("T")
log = logging.getLogger("dovrek.web")


class Newest(Generic[T]):
    """What was asked last, and what came of it."""

    def __init__(self, name: str) -> None:
        self._name = name
        self._lock, self._at_work = threading.Lock(), threading.Lock()
        self._key: Any = None
        self._found: T | None = None
        self._cancel = Cancel()

    def ask(self, key: Any, work: Callable[[Cancel], T], failed: Callable[[Exception], T]
            ) -> T | None:
        """What is known under a key; None while it is worked out. A new question drops the old
        one. `failed` makes an answer of what went wrong."""
        with self._lock:
            if key == self._key:
                return self._found
            self._cancel.set()
            self._key, self._found, self._cancel = key, None, Cancel()
            threading.Thread(target=self._work, args=(key, work, failed, self._cancel),
                             daemon=True, name=self._name).start()
        return None

    def known(self, key: Any) -> T | None:
        """What was found under a key, if it was the last."""
        with self._lock:
            return self._found if key == self._key else None

    def _work(self, key: Any, work: Callable[[Cancel], T], failed: Callable[[Exception], T],
              cancel: Cancel) -> None:
        with self._at_work:
            if cancel.is_set:
                return
            try:
                found = work(cancel)
            except Cancelled:
                return
            except Exception as error:
                log.exception("%s", self._name)
                found = failed(error)
        with self._lock:
            if key == self._key:
                self._found = found
