"""Stored skies: gallery, revisions, undo and redo that survive restarts."""

from __future__ import annotations

import itertools
import json
import re
import threading
import unicodedata
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache
from typing import Any, NamedTuple, cast

from dovrek.sky.changes import difference, groups_between
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyConflict
from dovrek.sky.reading import sky_from_text, text_to_keep
from dovrek.store.documents import document_of, kept_of, kept_text, pack, sweep_assets
from dovrek.store.tables import (
    Revision,
    StoredSky,
    database,
    in_turn,
    now,
    revision_of,
    writing,
)

NOTE_LENGTH = 200
BIN_DAYS = 30  # that deleted skies and prints stay in the bin


class NoSuchSky(LookupError):
    """There is no sky of that name in the store."""


class UnreadableSky(Exception):
    """What is stored of a sky cannot be read here: by another hand, or a zone unknown here."""


@dataclass(frozen=True)
class Written:
    """What a change led to."""

    revision: int
    sky: Sky
    others: tuple[str, ...] = ()  # places another window had changed meanwhile
    touched: tuple[str, ...] = ()  # groups that differ from what the window had


def number_in(text: str) -> int:
    """The number of a row in an address; 0, which no row has, for what is none."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 16 else 0


def slug_of(name: str) -> str:
    """A free slug for a name."""
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    stem = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:100] or "sky"
    taken = {str(row.slug) for row in StoredSky.select(StoredSky.slug).where(
        (StoredSky.slug == stem) | StoredSky.slug.startswith(f"{stem}-"))}
    free = (f"{stem}-{count}" for count in itertools.count(2))
    return stem if stem not in taken else next(slug for slug in free if slug not in taken)


PLAIN = [f for f in StoredSky._meta.sorted_fields if f is not StoredSky.picture]

# Words of readings that every request makes, written once.
_WHOLE, _ROW = (StoredSky.select(*fields).where(
    (StoredSky.slug == "") & (StoredSky.deleted == False)).sql()[0]  # noqa: E712
    for fields in ((), PLAIN))


def stored(slug: str, deleted: bool = False, pictured: bool = False) -> StoredSky:
    """The row of a sky, with its picture or (quicker) without. Raises NoSuchSky."""
    row: StoredSky | None = next(iter(StoredSky.raw(_WHOLE if pictured else _ROW, slug, deleted)),
                                 None)
    if row is None:
        raise NoSuchSky(f"There is no sky '{slug}'; see the Skies page for those there are.")
    row.__rel__["head"] = revision_of(row.head_id)  # every page reads it
    return row


def gallery(words: str = "", before: datetime | None = None,
            most: int | None = None) -> list[StoredSky]:
    """Skies, last changed first, without their pictures; `painted` says whether there is one.

    Those whose names hold all of `words`, that were changed before a moment, `most` at most."""
    rows = StoredSky.select(*PLAIN, StoredSky.picture.is_null(False).alias("painted")).where(
        ~StoredSky.deleted)
    for word in words.split():
        rows = rows.where(StoredSky.name.contains(word))
    if before is not None:
        rows = rows.where(StoredSky.changed < before)
    return list(rows.order_by(StoredSky.changed.desc()).limit(most))


def names() -> list[tuple[str, str]]:
    """Slug and name of every sky, last changed first."""
    return [(str(row.slug), str(row.name)) for row in StoredSky.select(
        StoredSky.slug, StoredSky.name).where(~StoredSky.deleted)
        .order_by(StoredSky.changed.desc())]


def add_sky(sky: Sky, note: str = "New sky", slug: str | None = None) -> StoredSky:
    """Store a new sky with its first revision."""
    text = text_to_keep(sky)
    with writing():  # as a writer from the start: two of one name wait in turn
        row = StoredSky.create(slug=slug or slug_of(sky.name), name=sky.name)
        row.head = Revision.create(sky=row, document=kept_text(text), note=note)
        row.save()
    return row


def load(slug: str) -> tuple[Sky, int]:
    """The sky as it stands and its revision. Raises NoSuchSky, UnreadableSky."""
    row = stored(slug)
    return _standing(row), row.head_id


_READ: OrderedDict[str, Sky] = OrderedDict()
_reading = threading.Lock()
READ_KEPT = 32


def _read(text: str) -> Sky:
    """The sky of a text: the same is read again and again, and no sky is ever changed in place."""
    known = _READ.get(text)
    return _know(text, sky_from_text(text) if known is None else known)


def _know(text: str, sky: Sky) -> Sky:
    """Remember what a text says, the latest few: a change's is read by the next one."""
    with _reading:
        _READ[text] = sky
        _READ.move_to_end(text)
        if len(_READ) > READ_KEPT:
            _READ.popitem(last=False)
    return sky


def _standing(row: StoredSky) -> Sky:
    try:
        return _read(document_of(row.head))
    except Exception as error:  # whatever another hand left there
        raise UnreadableSky(
            f"The sky '{row.name}' cannot be read here ({error or 'it has no state'}). Its text is "
            "as it was: export it raw and mend it, or go a step back.") from error


@lru_cache(maxsize=4096)
def _fault_of(slug: str, revision: int) -> str:
    try:
        load(slug)
    except (UnreadableSky, NoSuchSky) as error:
        return str(error)
    return ""


def fault_of(row: StoredSky) -> str:
    """Why a sky of the gallery cannot be read; empty when it can."""
    return _fault_of(str(row.slug), row.head_id or 0)


def raw_text(slug: str) -> str:
    """The text that stands for a sky, read or not. Raises NoSuchSky."""
    head = stored(slug).head
    return document_of(head) if head is not None else ""


def sky_at(slug: str, revision: int) -> Sky:
    """The sky at a revision. Raises NoSuchSky."""
    row = stored(slug)
    found = Revision.get_or_none((Revision.id == revision) & (Revision.sky == row))
    if found is None:
        raise NoSuchSky(f"Sky '{slug}' has no revision {revision}.")
    return _read(document_of(found))


def change(slug: str, base: int, note: str, alter: Callable[[Sky], Sky],
           gesture: str = "") -> Written:
    """Apply a change on top of the sky as it stands and store it at once.

    `base` is the revision the changing window saw. When another window has written since, the
    change is laid on top of theirs, and the places they changed are returned. Changes that
    share a gesture become one step. Raises what `alter` raises, with nothing stored.
    """
    with in_turn(slug):  # others of this process that write the same sky; the rest goes on
        made = _made(slug, base, gesture, alter)
        with writing():
            if _moved_on(made.row):
                made = _made(slug, base, gesture, alter)  # another process was quicker
            row, head, text = made.row, made.row.head, kept_text(made.text)
            if text == made.kept:
                return Written(head.id, made.current, made.others, made.touched)
            # A state that another stands on is not written over: that one is packed against it.
            if gesture and head.gesture == gesture and head.parent_id is not None and (
                    not head.redo):
                head.document, head.created = text, now()
                head.save()
                new = head
            else:
                new = Revision.create(sky=row, parent=head, document=text,
                                      note=note[:NOTE_LENGTH], gesture=gesture)
                pack(head)
            row.head, row.name, row.changed = new, made.sky.name, now()
            row.save()
    _know(made.text, made.sky)
    return Written(new.id, made.sky, made.others, made.touched)


def _moved_on(row: StoredSky) -> bool:
    """Whether a sky was written, or deleted, since its row was read."""
    found = cast(Any, database).execute_sql(
        "SELECT head_id, changed FROM storedsky WHERE id = ? AND NOT deleted", (row.id,)).fetchone()
    changed: Any = StoredSky.changed
    return found is None or (found[0], changed.python_value(found[1])) != (row.head_id, row.changed)


class _Made(NamedTuple):
    """A change that is worked out and not yet stored."""

    row: StoredSky  # on top of what it is
    kept: str  # as it stands
    current: Sky
    sky: Sky
    text: str
    others: tuple[str, ...]
    touched: tuple[str, ...]


def _made(slug: str, base: int, gesture: str, alter: Callable[[Sky], Sky]) -> _Made:
    row = stored(slug)
    head: Revision = row.head
    current = _standing(row)
    had = current
    others: tuple[str, ...] = ()
    if base != head.id and not (gesture and head.gesture == gesture):
        seen = Revision.get_or_none((Revision.id == base) & (Revision.sky == row))
        if seen is None:
            raise SkyConflict("This window shows a sky that is no longer there; reload it.")
        had = _read(document_of(seen))
        others = tuple(difference(had, current))
    changed = alter(current)
    touched = groups_between(had, changed)
    return _Made(row, kept_of(head), current, changed, text_to_keep(changed), others, touched)


def undo(slug: str) -> Written | None:
    """Step back; None at the beginning."""
    with in_turn(slug), writing():
        row = stored(slug)
        head: Revision = row.head
        if head.parent_id is None:
            return None
        parent = cast(Revision, revision_of(head.parent_id))
        parent.redo = head.id
        parent.save()
        return _stand(row, parent)


def redo(slug: str) -> Written | None:
    """Step forward to what was undone last; None when there is nothing."""
    with in_turn(slug), writing():
        row = stored(slug)
        if row.head.redo is None:
            return None
        return _stand(row, cast(Revision, revision_of(row.head.redo)))


def _stand(row: StoredSky, revision: Revision) -> Written:
    sky = _read(document_of(revision))
    try:
        touched = groups_between(_standing(row), sky)
    except UnreadableSky:  # a step back is a way out of it
        touched = tuple(Sky.model_fields)
    row.head, row.name, row.changed = revision, sky.name, now()
    row.save()
    return Written(revision.id, sky, touched=touched)


def steps(slug: str) -> tuple[int, int]:
    """How many steps can be undone and redone."""
    head = stored(slug).head
    if head is None:
        return 0, 0
    return _back(head), _walked(head.id, "redo")


def _walked(revision: int, step: str) -> int:
    """How far a way of single steps leads from a revision."""
    tables = cast(Any, database)
    return int(tables.execute_sql(
        "WITH RECURSIVE way(id, far) AS (SELECT ?, 0 UNION ALL SELECT r.next, way.far + 1 FROM way "
        f"JOIN (SELECT id, {step} AS next FROM revision) AS r ON r.id = way.id "
        "WHERE r.next IS NOT NULL) SELECT max(far) FROM way", (revision,)).fetchone()[0])


_STEPS: dict[tuple[str, int], int] = {}  # back from a revision, by store
STEPS_KEPT = 4096


def _back(head: Revision) -> int:
    """Steps back from a revision. What it stands on never changes, and a sky that was worked on
    for weeks has thousands: the way is walked once."""
    of = str(cast(Any, database).database)
    known = _STEPS.get((of, head.id))
    if known is None:
        before = None if head.parent_id is None else _STEPS.get((of, head.parent_id))
        known = _walked(head.id, "parent_id") if before is None else before + 1
        if len(_STEPS) >= STEPS_KEPT:
            _STEPS.clear()
        _STEPS[of, head.id] = known
    return known


SEEDS_KEPT = 12


def seeds_of(slug: str, layer_id: str) -> list[int]:
    """Seeds a layer has been dealt by, of all revisions, newest first."""
    found: list[int] = []
    rows = Revision.select().where(Revision.sky == stored(slug)).order_by(
        Revision.id.desc()).limit(400)
    for row in rows:
        for layer in json.loads(kept_of(row))["layers"]:
            if layer["id"] == layer_id and layer["seed"] not in found:
                found.append(int(layer["seed"]))
        if len(found) >= SEEDS_KEPT:
            break
    return found


def delete(slug: str) -> None:
    """Take a sky out of the gallery; `restore` brings it back."""
    row = stored(slug)
    row.deleted, row.binned = True, now()
    row.save()


def restore(slug: str) -> StoredSky:
    """Bring a deleted sky back. Raises NoSuchSky."""
    row = stored(slug, deleted=True)
    row.deleted, row.binned = False, None
    row.save()
    return row


def binned() -> list[StoredSky]:
    """Skies in the bin, last deleted first."""
    return list(StoredSky.select(*PLAIN).where(StoredSky.deleted).order_by(
        StoredSky.binned.desc()))


def forget(slug: str) -> None:
    """Remove a sky of the bin with all its states for good. Raises NoSuchSky."""
    with writing():
        stored(slug, deleted=True).delete_instance()
        sweep_assets()
    _STEPS.clear()  # numbers of rows are given again


def duplicate(slug: str) -> StoredSky:
    """A copy with a history of its own."""
    sky, _ = load(slug)
    copy = sky.model_copy(update={"name": f"{sky.name[:110]}, copy"})
    row = add_sky(copy, f"Copy of {sky.name}"[:NOTE_LENGTH])
    source = stored(slug, pictured=True)
    if source.picture is not None and source.picture_of == source.head_id:
        row.picture, row.picture_of = source.picture, row.head_id
        row.save()
    return row


def keep_picture(slug: str, revision: int, data: bytes) -> None:
    """Keep a small picture of a revision for the gallery."""
    StoredSky.update(picture=data, picture_of=revision).where(StoredSky.slug == slug).execute()
