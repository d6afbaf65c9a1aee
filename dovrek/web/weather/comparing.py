"""The light of a sky that was made of an hour of weather, beside what the file says of it."""

from __future__ import annotations

from collections import OrderedDict
from typing import NamedTuple

from dovrek.core.picture.probe import light_of
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.stage import key_of
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_to_text
from dovrek.weather.epw import Hour
from dovrek.web.live.looks import be_nice
from dovrek.web.shared.newest import Newest

KEPT, CACHE_BYTES = 16, 150 * 2**20
LEAST_LUX = 50.0  # below which a share says nothing


class Row(NamedTuple):
    """One illuminance: here, in the file, and how far off in per cent."""

    name: str
    ours: float
    theirs: float | None
    off: float | None


def row_of(name: str, ours: float, theirs: float | None) -> Row:
    there = theirs is not None and theirs >= LEAST_LUX
    return Row(name, ours, theirs, 100.0 * (ours / theirs - 1.0) if there and theirs else None)


class Comparer:
    """The last skies that were made of hours, and their light."""

    def __init__(self) -> None:
        self._skies: OrderedDict[str, tuple[Sky, Hour]] = OrderedDict()
        self._newest: Newest[list[Row] | str] = Newest("light of an hour")

    def keep(self, sky: Sky, record: Hour) -> str:
        """Remember a sky; the key by which its light is asked for."""
        key = key_of(sky_to_text(sky))
        self._skies[key] = (sky, record)
        while len(self._skies) > KEPT:
            self._skies.popitem(last=False)
        return key

    def rows(self, key: str) -> list[Row] | str | None:
        """What is known of a sky's light; None while it is worked out, words when it is not to be
        had."""
        if key not in self._skies:
            return "This hour was read too long ago; read it again."
        return self._newest.ask(key, lambda cancel: self._compared(key, cancel),
                                lambda error: f"Its light could not be worked out: {error}.")

    def _compared(self, key: str, cancel: Cancel) -> list[Row]:
        sky, record = self._skies[key]
        studio = Studio(1, be_nice, CACHE_BYTES)
        try:
            prepared = studio.preparer.scene(sky, FINE, cancel)
            light = light_of(sky, studio.preparer, prepared, cancel)["sky"]
        finally:
            studio.close()
        direct = None if record.global_lux is None or record.diffuse_lux is None else (
            record.global_lux - record.diffuse_lux)
        return [row_of("from the sky", light["diffuse_horizontal_lux"], record.diffuse_lux),
                row_of("from the sun", light["direct_horizontal_lux"], direct),
                row_of("together", light["global_horizontal_lux"], record.global_lux)]
