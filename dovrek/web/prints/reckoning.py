"""Forecasts for the order dialog, reckoned beside the picture."""

from __future__ import annotations

from collections import OrderedDict

from dovrek.core.picture.studio import Studio
from dovrek.core.run.workers import Cancel
from dovrek.prints.foretold import Foretold, foretell
from dovrek.sky.document import Sky
from dovrek.store.orders import Order, OrderError
from dovrek.web.live.looks import be_nice
from dovrek.web.shared.newest import Newest

CACHE_BYTES, BUILDS_KEPT = 250 * 2**20, 64
Key = tuple[str, int, Order]  # a sky, its revision, what is ordered of it


class Reckoner:
    """The forecast that was asked last, on a studio of its own: a print's workers build their
    scene too."""

    def __init__(self) -> None:
        self._newest: Newest[Foretold | OrderError] = Newest("forecast")
        self._studio: Studio | None = None
        self._builds: OrderedDict[tuple[str, int, str], float] = OrderedDict()

    def ask(self, key: Key, sky: Sky) -> Foretold | OrderError | None:
        """What is known of an order; None while it is reckoned. A new question drops the old."""
        def failed(error: Exception) -> OrderError:
            return error if isinstance(error, OrderError) else OrderError(f"no forecast: {error}")

        return self._newest.ask(key, lambda cancel: self._reckon(key, sky, cancel), failed)

    def known(self, key: Key) -> float:
        """Seconds that were reckoned of an order, or 0."""
        found = self._newest.known(key)
        return found.raw_s if isinstance(found, Foretold) else 0.0

    def _reckon(self, key: Key, sky: Sky, cancel: Cancel) -> Foretold | OrderError:
        slug, revision, order = key
        place = (slug, revision, order.kind + order.quality)
        if self._studio is None:
            self._studio = Studio(1, be_nice, CACHE_BYTES)
        try:
            found = foretell(sky, order, self._studio, cancel, self._builds.get(place, 0.0))
        except OrderError as error:  # what cannot be is no failure
            return error
        self._builds[place] = found.build_s
        while len(self._builds) > BUILDS_KEPT:
            self._builds.popitem(last=False)
        return found
