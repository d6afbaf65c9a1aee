"""Ordered prints as rows: order, take, progress, end."""

from __future__ import annotations

from typing import Any

from peewee import fn

from dovrek.sky.document import Sky
from dovrek.sky.reading import text_to_keep
from dovrek.store.documents import full_text, kept_text
from dovrek.store.orders import Order, OrderError, order_of_text, order_text
from dovrek.store.tables import OrderHabit, PrintJob, now, writing

WAITING, WORKING, DONE, FAILED, CANCELLED = "waiting", "working", "done", "failed", "cancelled"
PAUSED = "paused"
OPEN = (WAITING, WORKING)
UNENDED = (*OPEN, PAUSED)
FALLS_MOST = 3  # engines that a print may bring down
TITLE_LETTERS = 160
HABITS_MOST, HABIT_LETTERS = 60, 80


class NoSuchPrint(LookupError):
    """There is no print of that number."""


def place(sky: Sky, slug: str, order: Order, expected_s: float = 0.0) -> PrintJob:
    """Queue a print of the sky as it stands now. Raises SkyError."""
    return place_all([(sky.name, sky)], slug, order, expected_s)[0]


def place_all(skies: list[tuple[str, Sky]], slug: str, order: Order, expected_s: float = 0.0
              ) -> list[PrintJob]:
    """Queue prints of several states of a sky, each with its title, as one party: all of them or
    none. `expected_s` is what was foretold of each. Raises SkyError."""
    texts = [(title, text_to_keep(sky)) for title, sky in skies]
    rows: list[PrintJob] = []
    with writing():
        for title, text in texts:
            rows.append(PrintJob.create(
                sky_slug=slug, title=title[:TITLE_LETTERS], document=kept_text(text),
                order=order_text(order), expected=expected_s))
        if len(rows) > 1:
            PrintJob.update(party=rows[0].id).where(
                PrintJob.id.in_([row.id for row in rows])).execute()
    return rows


def job(number: int) -> PrintJob:
    """A print's row. Raises NoSuchPrint."""
    row = PrintJob.get_or_none((PrintJob.id == number) & PrintJob.binned.is_null())
    if row is None:
        raise NoSuchPrint(f"There is no print {number}; see the Prints page.")
    found: PrintJob = row
    return found


_FIRST = fn.COALESCE(fn.NULLIF(PrintJob.party, 0), PrintJob.id)  # that it was ordered with
_ROW = [f for f in PrintJob._meta.sorted_fields if f is not PrintJob.document]


def all_jobs() -> list[PrintJob]:
    """All prints without their skies, newest first; those ordered together stand together, in their
    order."""
    return _listed(PrintJob.binned.is_null())


def from_order(first: int) -> list[PrintJob]:
    """Prints of the order that began with a number, of all later ones, and what is not ended of
    earlier ones; as `all_jobs`."""
    return _listed(PrintJob.binned.is_null() & (
        (first <= _FIRST) | PrintJob.state.in_(UNENDED)))


def before_order(first: int, since: int) -> list[PrintJob]:
    """Ended prints of orders from `since` up to one that began with a number; as `all_jobs`."""
    return _listed(PrintJob.binned.is_null() & (first > _FIRST) & (since <= _FIRST)
                   & PrintJob.state.not_in(UNENDED))


def _listed(wanted: Any) -> list[PrintJob]:
    return list(PrintJob.select(*_ROW).where(wanted).order_by(_FIRST.desc(), PrintJob.id))


def order_back(most: int, first: int | None = None) -> int:
    """The number that the last of `most` orders back began with, from the newest one on or from
    before one that began with a number; 0 when there are none."""
    rows = PrintJob.select(_FIRST.alias("began")).where(PrintJob.binned.is_null())
    if first is not None:
        rows = rows.where((first > _FIRST) & PrintJob.state.not_in(UNENDED))
    found: list[Any] = list(rows.distinct().order_by(_FIRST.desc()).limit(most).objects())
    return int(found[-1].began) if found else 0


def order_of(row: PrintJob) -> Order:
    """What was ordered. Raises OrderError for a row that another hand has left unreadable."""
    return order_of_text(str(row.order))


def document_of(row: PrintJob) -> str:
    """The whole text of the sky that is printed."""
    return full_text(str(row.document))


# -- the engine's side --------------------------------------------------------------------


def take(owner: str) -> PrintJob | None:
    """The next print for an engine to work on: one that another left in the middle first, then the
    oldest waiting. One that was left too often is set aside."""
    with writing():
        rows = (PrintJob.select().where(_is_open())
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


def any_open() -> bool:
    """Whether a print waits or was left in the middle."""
    return bool(PrintJob.select().where(_is_open()).exists())


def _is_open() -> Any:
    """The condition that a print waits or is worked on."""
    return PrintJob.state.in_(OPEN) & PrintJob.binned.is_null()


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
        (PrintJob.id == number) & PrintJob.state.in_((*OPEN, PAUSED))).execute())


def pause(number: int) -> bool:
    """Set a print aside until it is resumed; what is done of it stays. False when it had ended."""
    return bool(PrintJob.update(state=PAUSED, owner="").where(
        (PrintJob.id == number) & PrintJob.state.in_(OPEN)).execute())


def resume(number: int) -> bool:
    """Queue a paused print again, in its old place."""
    return bool(PrintJob.update(state=WAITING, message="").where(
        (PrintJob.id == number) & (PrintJob.state == PAUSED)).execute())


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
        PrintJob.state.in_((*OPEN, PAUSED)) | (PrintJob.state.in_((FAILED, CANCELLED))
                                    & (PrintJob.finished > since) & PrintJob.binned.is_null()))
    return {str(row.digest) for row in rows}


# -- what past prints tell ----------------------------------------------------------------


def lately_foretold(count: int) -> list[tuple[str, float, float]]:
    """Kind, foretold and real seconds of the last prints that were foretold, newest first."""
    rows = PrintJob.select(PrintJob.order, PrintJob.expected, PrintJob.seconds).where(
        (PrintJob.state == DONE) & (PrintJob.expected > 0.0) & (PrintJob.seconds > 0.0)).order_by(
            PrintJob.finished.desc()).limit(count)
    found = []
    for row in rows:
        try:
            found.append((order_of(row).kind, float(row.expected), float(row.seconds)))
        except OrderError:
            continue
    return found


# -- habits: orders that are kept under a name --------------------------------------------


def habits() -> list[tuple[str, Order]]:
    """Names and orders, by name; those that cannot be read any more are left out."""
    found = []
    for row in OrderHabit.select().order_by(OrderHabit.name):
        try:
            found.append((str(row.name), order_of_text(str(row.order))))
        except OrderError:
            continue
    return found


def keep_habit(name: str, order: Order) -> None:
    """Keep an order under a name, in the place of what had it. Raises OrderError."""
    name = " ".join(name.split())[:HABIT_LETTERS]
    if not name or not name.isprintable():
        raise OrderError("habit: it needs a name; write a few words")
    with writing():
        had = OrderHabit.get_or_none(OrderHabit.name == name)
        if had is None and OrderHabit.select().count() >= HABITS_MOST:
            raise OrderError(f"habit: {HABITS_MOST} are kept, no more; remove one first")
        if had is not None:
            had.delete_instance()
        OrderHabit.create(name=name, order=order_text(order))


def forget_habit(name: str) -> None:
    OrderHabit.delete().where(OrderHabit.name == name).execute()
