"""Ordered prints as rows: order, take, progress, end."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_text, sky_to_text
from dovrek.store.tables import PrintJob, database, now

WAITING, WORKING, DONE, FAILED, CANCELLED = "waiting", "working", "done", "failed", "cancelled"
OPEN = (WAITING, WORKING)
WIDTH_LIMIT, HEIGHT_LIMIT = 3840, 2160


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


def order_from(fields: dict[str, Any], formats: dict[str, tuple[bool, bool]]) -> Order:
    """An order from a form. `formats` are those on offer, and whether each holds passes and
    transparency. Raises OrderError."""
    def whole(name: str, limit: int) -> int:
        text = str(fields.get(name, "")).strip()
        if not text.isdecimal() or not 16 <= int(text) <= limit:
            raise OrderError(f"{name}: '{text[:20]}' is not a size; give a whole number from "
                             f"16 to {limit} px")
        return int(text)

    def word(name: str, known: tuple[str, ...], default: str) -> str:
        text = str(fields.get(name, default))
        if text not in known:
            raise OrderError(f"{name}: '{text[:20]}' is not known; use one of {', '.join(known)}")
        return text

    form = word("format", tuple(formats), "png-8")
    passes = word("passes", ("none", "all"), "none")
    if passes == "all" and not formats[form][0]:
        raise OrderError("passes: only OpenEXR holds them; choose an OpenEXR file, or no passes")
    if fields.get("ground") == "off" and not formats[form][1]:
        raise OrderError("ground: this file holds no transparency; choose another file, or a shown "
                         "ground")
    return Order(whole("width", WIDTH_LIMIT), whole("height", HEIGHT_LIMIT),
                 word("quality", ("draft", "proof", "final"), "final"),
                 form, word("ground", ("on", "off"), "on"), passes)


def place(sky: Sky, slug: str, order: Order) -> PrintJob:
    """Queue a print of the sky as it stands now."""
    row: PrintJob = PrintJob.create(sky_slug=slug, title=sky.name, document=sky_to_text(sky),
                                    order=json.dumps(asdict(order)))
    return row


def job(number: int) -> PrintJob:
    """A print's row. Raises NoSuchPrint."""
    row = PrintJob.get_or_none(PrintJob.id == number)
    if row is None:
        raise NoSuchPrint(f"There is no print {number}; see the Prints page.")
    found: PrintJob = row
    return found


def all_jobs(limit: int = 200) -> list[PrintJob]:
    return list(PrintJob.select().order_by(PrintJob.id.desc()).limit(limit))


def order_of(row: PrintJob) -> Order:
    return Order(**json.loads(row.order))


def sky_of(row: PrintJob) -> Sky:
    return sky_from_text(row.document)


def take() -> PrintJob | None:
    """The next print to work on: one left in the middle first, then the oldest waiting."""
    with database.atomic("IMMEDIATE"):
        row = (PrintJob.select().where(PrintJob.state.in_(OPEN))
               .order_by(PrintJob.state.desc(), PrintJob.id).first())
        if row is None:
            return None
        PrintJob.update(state=WORKING, message="").where(PrintJob.id == row.id).execute()
    return job(row.id)


def report(number: int, **fields: Any) -> str:
    """Write progress unless the print was cancelled meanwhile; returns the state it is in."""
    PrintJob.update(**fields).where((PrintJob.id == number)
                                    & (PrintJob.state == WORKING)).execute()
    return str(job(number).state)


def finish(number: int, state: str, **fields: Any) -> None:
    """End a print that is still being worked on."""
    report(number, state=state, finished=now(), **fields)


def cancel(number: int) -> None:
    row = job(number)
    if row.state in OPEN:
        PrintJob.update(state=CANCELLED, finished=now()).where(PrintJob.id == number).execute()


def retry(number: int) -> None:
    """Queue a failed or cancelled print again; its stored tiles are used."""
    row = job(number)
    if row.state in (FAILED, CANCELLED):
        PrintJob.update(state=WAITING, message="", finished=None).where(
            PrintJob.id == number).execute()
