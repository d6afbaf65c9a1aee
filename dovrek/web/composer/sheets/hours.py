"""The same sky at twelve hours of its date."""

from __future__ import annotations

from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from dovrek.core.air.sun_place import local_day, sun_day
from dovrek.sky.document import Sky
from dovrek.sky.layer import Layer
from dovrek.sky.trials import hours_to_try
from dovrek.web.composer.sheets.frames import SHEET_COUNT, Sheet, frame_of, setting
from dovrek.web.live.boards import Frame


def clock_hours(sky: Sky, count: int = SHEET_COUNT) -> list[datetime]:
    """Moments of the sky's date for a sheet, in the site's zone."""
    day = sun_day(sky)
    start, _ = local_day(sky)
    zone = ZoneInfo(sky.site.timezone)

    def hour(moment: datetime | None) -> float | None:
        return None if moment is None else (moment - start).total_seconds() / 3600.0

    return [(start + timedelta(minutes=round(60 * h))).astimezone(zone) for h in hours_to_try(
        hour(day.first("sun", True)), hour(day.first("sun", False)), count)]


def _frames(sky: Sky, layer: Layer | None) -> list[Frame | None]:
    return [frame_of(sky, f"{m:%H:%M}", "Hour", setting({
        "moment": m.replace(tzinfo=None).isoformat(timespec="minutes"), "sun.mode": "clock"}))
        for m in clock_hours(sky)]


HOURS = Sheet(_frames, "Hours of the day", of_sky="Hours", tip="The same sky at twelve hours")
