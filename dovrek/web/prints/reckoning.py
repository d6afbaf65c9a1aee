"""Forecasts for the order dialog: reckoned beside the picture, one at a time, the newest wish."""

from __future__ import annotations

import logging
import threading
from collections import OrderedDict

from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.prints.foretold import Foretold, foretell
from dovrek.sky.document import Sky
from dovrek.store.orders import Order, OrderError
from dovrek.web.live.looks import be_nice

CACHE_BYTES, BUILDS_KEPT = 250 * 2**20, 64
log = logging.getLogger("dovrek.prints")
Key = tuple[str, int, Order]  # a sky, its revision, what is ordered of it


class Reckoner:
    """What was asked last, and what came of it."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._at_work = threading.Lock()
        self._studio: Studio | None = None
        self._key: Key | None = None
        self._found: Foretold | OrderError | None = None
        self._cancel = Cancel()
        self._builds: OrderedDict[tuple[str, int, str], float] = OrderedDict()

    def ask(self, key: Key, sky: Sky) -> Foretold | OrderError | None:
        """What is known of an order; None while it is reckoned. A new question drops the old."""
        with self._lock:
            if key == self._key:
                return self._found
            self._cancel.set()
            self._key, self._found, self._cancel = key, None, Cancel()
            threading.Thread(target=self._work, args=(key, sky, self._cancel), daemon=True,
                             name="forecast").start()
        return None

    def known(self, key: Key) -> float:
        """Seconds that were reckoned of an order, or 0."""
        with self._lock:
            found = self._found if key == self._key else None
            return found.raw_s if isinstance(found, Foretold) else 0.0

    def _work(self, key: Key, sky: Sky, cancel: Cancel) -> None:
        slug, revision, order = key
        place = (slug, revision, order.kind + order.quality)
        found: Foretold | OrderError
        with self._at_work:
            if cancel.is_set:
                return
            try:
                # A scene of its own: a print's workers build theirs too.
                if self._studio is None:
                    self._studio = Studio(1, be_nice)
                    self._studio.preparer = Preparer(self._studio.workers, StageCache(CACHE_BYTES))
                found = foretell(sky, order, self._studio, cancel, self._builds.get(place, 0.0))
            except Cancelled:
                return
            except OrderError as error:
                found = error
            except Exception as error:
                log.exception("forecast of %s", slug)
                found = OrderError(f"no forecast: {error}")
        with self._lock:
            if isinstance(found, Foretold):
                self._builds[place] = found.build_s
                while len(self._builds) > BUILDS_KEPT:
                    self._builds.popitem(last=False)
            if key == self._key:
                self._found = found
