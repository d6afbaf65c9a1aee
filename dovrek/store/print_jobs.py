"""Ordered prints as rows: order, take, progress, end."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.reading import text_to_keep
from dovrek.store.documents import full_text, kept_text
from dovrek.store.tables import PrintJob, database, now

WAITING, WORKING, DONE, FAILED, CANCELLED = "waiting", "working", "done", "failed", "cancelled"
OPEN = (WAITING, WORKING)
WIDTH_LIMIT, HEIGHT_LIMIT, PIXELS_MOST = 8192, 8192, 8192 * 4096
BACKPLATE, DOME, FILM = "backplate", "dome", "film"
FILM_LIMIT = 3840
FALLS_MOST = 3  # engines that a print may bring down


class OrderError(ValueError):
    """An order that cannot be taken; the text names field, value and mend."""


class NoSuchPrint(LookupError):
    """There is no print of that number."""


@dataclass(frozen=True)
class Order:
    """What is to be printed."""

    width: int
    height: int
    quality: str = "final"
    format: str = "png-8"
    ground: str = "on"
    passes: str = "none"
    kind: str = BACKPLATE
    sun: str = "apart"  # of a dome: a light of its own, or in the picture
    centre: float = 0.0  # of a dome: the bearing in its middle, degrees


def order_from(fields: dict[str, Any], formats: dict[str, tuple[bool, bool]]) -> Order:
    """An order from a form. `formats` are those on offer, and whether each holds passes and
    transparency. Raises OrderError."""
    def whole(name: str, limit: int) -> int:
        text = str(fields.get(name, "")).strip()
        if not (text.isascii() and text.isdecimal() and len(text) < 7) or not (
                16 <= int(text) <= limit):
            raise OrderError(f"{name}: '{text[:20]}' is not a size; give a whole number from "
                             f"16 to {limit} px")
        return int(text)

    def word(name: str, known: tuple[str, ...], default: str) -> str:
        text = str(fields.get(name, default))
        if text not in known:
            raise OrderError(f"{name}: '{text[:20]}' is not known; use one of {', '.join(known)}")
        return text

    kind = word("kind", (BACKPLATE, DOME, FILM), BACKPLATE)
    quality = word("quality", ("draft", "proof", "final"), "final")
    if kind == DOME:
        return _dome(fields, whole("width", WIDTH_LIMIT), quality, word)
    if kind == FILM:
        width, height = whole("width", FILM_LIMIT), whole("height", FILM_LIMIT)
        if width % 2 or height % 2:
            raise OrderError(f"width, height: {width} × {height} is refused; a film needs even "
                             "numbers of pixels")
        return Order(width, height, quality, "webm", kind=FILM)
    form = word("format", tuple(formats), "png-8")
    passes = word("passes", ("none", "all"), "none")
    if passes == "all" and not formats[form][0]:
        raise OrderError("passes: only OpenEXR holds them; choose an OpenEXR file, or no passes")
    if fields.get("ground") == "off" and not formats[form][1]:
        raise OrderError("ground: this file holds no transparency; choose another file, or a shown "
                         "ground")
    width, height = whole("width", WIDTH_LIMIT), whole("height", HEIGHT_LIMIT)
    if width * height > PIXELS_MOST:
        raise OrderError(f"width, height: {width} × {height} are more than {PIXELS_MOST:,} "
                         "pixels; give smaller ones")
    return Order(width, height, quality, form, word("ground", ("on", "off"), "on"), passes)


def _dome(fields: dict[str, Any], width: int, quality: str,
          word: Callable[[str, tuple[str, ...], str], str]) -> Order:
    """The order of a dome with its lights: an OpenEXR file, twice as wide as high."""
    if width % 2:
        raise OrderError(f"width: {width} is odd; a dome is twice as wide as high, give an even "
                         "number")
    text = str(fields.get("centre", "0")).strip() or "0"
    try:
        centre = float(text)
    except ValueError:
        centre = math.nan
    if not 0.0 <= centre <= 360.0:
        raise OrderError(f"centre: '{text[:20]}' is no bearing; give 0 to 360 degrees")
    sun = word("sun", ("apart", "in"), "apart")
    return Order(width, width // 2, quality, "exr-float" if sun == "in" else "exr-half",
                 kind=DOME, sun=sun, centre=centre % 360.0)


def place(sky: Sky, slug: str, order: Order) -> PrintJob:
    """Queue a print of the sky as it stands now. Raises SkyError."""
    text = text_to_keep(sky)
    with database.atomic("IMMEDIATE"):
        row: PrintJob = PrintJob.create(sky_slug=slug, title=sky.name, document=kept_text(text),
                                        order=json.dumps(asdict(order)))
    return row


def job(number: int) -> PrintJob:
    """A print's row. Raises NoSuchPrint."""
    row = PrintJob.get_or_none((PrintJob.id == number) & PrintJob.binned.is_null())
    if row is None:
        raise NoSuchPrint(f"There is no print {number}; see the Prints page.")
    found: PrintJob = row
    return found


def all_jobs(limit: int = 200) -> list[PrintJob]:
    return list(PrintJob.select().where(PrintJob.binned.is_null()).order_by(
        PrintJob.id.desc()).limit(limit))


def order_of(row: PrintJob) -> Order:
    """What was ordered. Raises OrderError for a row that another hand has left unreadable."""
    try:
        return Order(**json.loads(row.order))
    except (ValueError, TypeError):
        raise OrderError("order: it cannot be read; remove this print and order it anew") from None


def document_of(row: PrintJob) -> str:
    """The whole text of the sky that is printed."""
    return full_text(str(row.document))


# -- the engine's side --------------------------------------------------------------------


def take(owner: str) -> PrintJob | None:
    """The next print for an engine to work on: one that another left in the middle first, then the
    oldest waiting. One that was left too often is set aside."""
    with database.atomic("IMMEDIATE"):
        rows = (PrintJob.select().where(PrintJob.state.in_(OPEN) & PrintJob.binned.is_null())
                .order_by(PrintJob.state.desc(), PrintJob.id))
        for row in rows:
            orphan = row.state == WORKING and row.owner != owner
            fallen = row.fallen + orphan
            if fallen >= FALLS_MOST:
                PrintJob.update(state=FAILED, finished=now(), fallen=fallen, owner="", message=(
                    f"The print engine fell {fallen} times while it worked on this, so it was set "
                    "aside; a smaller size may pass. Its finished tiles are kept.")).where(
                        PrintJob.id == row.id).execute()
                continue
            PrintJob.update(state=WORKING, message="", owner=owner, heartbeat=now(),
                            fallen=fallen).where(PrintJob.id == row.id).execute()
            return job(row.id)
    return None


def report(number: int, owner: str, **fields: Any) -> bool:
    """Write that an engine is at work, and how far; False once the print is not its any more."""
    return bool(PrintJob.update(heartbeat=now(), **fields).where(_held(number, owner)).execute())


def finish(number: int, owner: str, state: str, **fields: Any) -> bool:
    """End a print that its engine still holds; False when a cancel came first."""
    return bool(PrintJob.update(state=state, finished=now(), owner="", **fields).where(
        _held(number, owner)).execute())


def _held(number: int, owner: str) -> Any:
    return (PrintJob.id == number) & (PrintJob.state == WORKING) & (PrintJob.owner == owner)


# -- the artist's side --------------------------------------------------------------------


def cancel(number: int) -> bool:
    """Cancel a print; False when it had ended before."""
    return bool(PrintJob.update(state=CANCELLED, finished=now(), owner="").where(
        (PrintJob.id == number) & PrintJob.state.in_(OPEN)).execute())


def retry(number: int) -> bool:
    """Queue a failed or cancelled print again; its stored tiles are used."""
    return bool(PrintJob.update(state=WAITING, message="", finished=None, fallen=0).where(
        (PrintJob.id == number) & PrintJob.state.in_((FAILED, CANCELLED))).execute())


def remove(number: int) -> None:
    """Put a print into the bin, cancelled if it is still open."""
    cancel(number)
    PrintJob.update(binned=now()).where(PrintJob.id == number).execute()


def restore(number: int) -> None:
    """Take a print out of the bin."""
    PrintJob.update(binned=None).where(PrintJob.id == number).execute()


def binned() -> list[PrintJob]:
    """Prints in the bin, last removed first."""
    return list(PrintJob.select().where(PrintJob.binned.is_null(False)).order_by(
        PrintJob.binned.desc()))


def forget(number: int) -> None:
    """Remove a row of the bin for good; its files are the caller's to remove first."""
    PrintJob.delete().where((PrintJob.id == number) & PrintJob.binned.is_null(False)).execute()


def tiles_wanted(since: Any) -> set[str]:
    """Digests of prints whose tiles may be used again: open ones, and those that failed or were
    cancelled after a moment."""
    rows = PrintJob.select(PrintJob.digest).where(
        PrintJob.state.in_(OPEN) | (PrintJob.state.in_((FAILED, CANCELLED))
                                    & (PrintJob.finished > since) & PrintJob.binned.is_null()))
    return {str(row.digest) for row in rows}
