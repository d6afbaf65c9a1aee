"""The tables. Every change of a sky is a revision; nothing is overwritten."""

from __future__ import annotations

import sqlite3
import threading
from collections import defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from peewee import (
    AutoField,
    BlobField,
    BooleanField,
    CharField,
    DateTimeField,
    DeferredForeignKey,
    FloatField,
    ForeignKeyField,
    IntegerField,
    Model,
    SqliteDatabase,
    TextField,
)

from dovrek.store.migrations import upgrade

_turn = threading.RLock()
WRITES = ("INSERT", "UPDATE", "DELETE", "REPLACE")


class _Database(SqliteDatabase):
    """SQLite, whose single statements that write wait their turn as transactions do: one that
    waited as SQLite does, looking now and then, would starve beside those that wait in line."""

    def _execute_cursor(self, sql: str, params: Any, **options: Any) -> Any:
        then: Any = super()
        if sql.startswith(WRITES) and not self.in_transaction():
            with _turn:
                return then._execute_cursor(sql, params, **options)
        return then._execute_cursor(sql, params, **options)


database = _Database(None)
_naming = threading.Lock()
_turns: defaultdict[str, threading.RLock] = defaultdict(threading.RLock)


def in_turn(name: str) -> threading.RLock:
    """What the threads of one process hold while they work out a change of the thing of a name."""
    with _naming:
        return _turns[name]


@contextmanager
def writing() -> Iterator[None]:
    """A transaction that writes, from its start. Threads of one process wait in turn, each going on
    when the one before has ended; SQLite's own waiting, which is for other processes, looks again
    after up to a tenth of a second."""
    with _turn, database.atomic("IMMEDIATE"):
        yield


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class Table(Model):
    id = AutoField()

    class Meta:
        database = database
        only_save_dirty = True  # a change of a sky does not write its picture again


class StoredSky(Table):
    """A sky: its place in the gallery and the revision it stands at."""

    head_id: int
    slug = CharField(unique=True, max_length=140)
    name = CharField(max_length=120)
    head = DeferredForeignKey("Revision", null=True, backref=None)
    deleted = BooleanField(default=False, index=True)
    created = DateTimeField(default=now)
    changed = DateTimeField(default=now, index=True)
    painted: bool  # of rows of the gallery: whether there is a picture
    picture = BlobField(null=True)
    picture_of = IntegerField(null=True)  # the revision the picture shows
    binned = DateTimeField(null=True)  # when it was deleted


class Revision(Table):
    """One state of a sky; `parent` is the state before, `redo` the one undone last."""

    parent_id: int | None
    sky = ForeignKeyField(StoredSky, backref="revisions", on_delete="CASCADE")
    parent = ForeignKeyField("self", null=True)
    redo = IntegerField(null=True)
    document = TextField()  # whole text; empty when it is packed
    packed = BlobField(null=True)  # the text against that of `basis`
    basis = IntegerField(null=True)  # a revision whose text is whole
    note = CharField(max_length=200)
    gesture = CharField(max_length=60, default="")  # values of one drag share it
    created = DateTimeField(default=now)


# Its words are written once: that takes peewee ten times as long as SQLite takes to read a row.
_REVISION = Revision.select().where(Revision.id == 0).sql()[0]


def revision_of(number: int | None) -> Revision | None:
    """The revision of a number, if there is one."""
    return None if number is None else next(iter(Revision.raw(_REVISION, number)), None)


class Version(Table):
    """A named, fixed state of a sky."""

    sky = ForeignKeyField(StoredSky, backref="versions", on_delete="CASCADE")
    name = CharField(max_length=120)
    document = TextField()
    created = DateTimeField(default=now)


class Reference(Table):
    """A photograph kept with a sky to compare with, and how it is framed."""

    sky = ForeignKeyField(StoredSky, backref="references", on_delete="CASCADE")
    name = CharField(max_length=120)
    picture = BlobField()  # PNG, sRGB
    width = IntegerField()
    height = IntegerField()
    lens_mm = FloatField(default=28.0)  # 36 mm wide equivalent
    horizon = FloatField(default=1.0)  # share of the height from the top
    ratio = FloatField(default=0.82)  # of red to blue from which a pixel is cloud
    skyline = TextField(default="")  # heights of what stands before the sky, 0 top … 1, by commas
    note = CharField(max_length=200, default="")
    created = DateTimeField(default=now)


class StoredRecipe(Table):
    """A layer or a sky saved for reuse."""

    name = CharField(max_length=80, index=True)
    document = TextField()  # recipe JSON
    picture = BlobField(null=True)
    created = DateTimeField(default=now)


class Overlay(Table):
    """A drawing laid over one sky's picture to line it up."""

    sky = ForeignKeyField(StoredSky, unique=True, on_delete="CASCADE")
    name = CharField(max_length=120)
    picture = BlobField()  # PNG with alpha


class PrintJob(Table):
    """One ordered print and how far it is."""

    sky_slug = CharField(max_length=140, index=True)
    title = CharField(max_length=160)
    document = TextField()
    order = TextField()  # width, height, quality, format … as JSON
    state = CharField(max_length=20, default="waiting", index=True)
    done = IntegerField(default=0)
    total = IntegerField(default=0)
    seconds = FloatField(default=0.0)
    message = TextField(default="")
    file = CharField(max_length=200, default="")
    created = DateTimeField(default=now)
    finished = DateTimeField(null=True)
    owner = CharField(max_length=80, default="")  # the engine that works on it
    heartbeat = DateTimeField(null=True)  # when that engine was last heard of
    fallen = IntegerField(default=0)  # engines that fell while they worked on it
    digest = CharField(max_length=64, default="")  # of all its pixels depend on
    binned = DateTimeField(null=True)  # when it was deleted
    files = TextField(default="")  # names of all that it left, as JSON
    party = IntegerField(default=0)  # the first of the prints that were ordered together
    expected = FloatField(default=0.0)  # seconds foretold when it was ordered


class OrderHabit(Table):
    """An order kept under a name, to be given again."""

    name = CharField(max_length=80, unique=True)
    order = TextField()
    created = DateTimeField(default=now)


class Asset(Table):
    """A picture that documents name by its content, stored once."""

    digest = CharField(max_length=64, unique=True)
    data = TextField()  # as the document has it: data:image/png;base64,…


_staying: list[sqlite3.Connection] = []
TABLES = [StoredSky, Revision, Version, Reference, StoredRecipe, Overlay, PrintJob, OrderHabit,
          Asset]


def open_database(path: Path | str) -> Any:
    """Bind the tables, brought to their present shape. Raises NewerStore.

    Write-ahead log with a sync at every commit: what was stored survives a kill and a power cut
    (SQLite, write-ahead logging: with `synchronous` at normal a power cut may take the last
    commits).
    """
    if not database.is_closed():
        database.close()
    upgrade(Path(path))
    database.init(str(path), pragmas={
        "journal_mode": "wal", "foreign_keys": 1, "busy_timeout": 8000, "synchronous": "full",
    })
    _stay(str(path))
    return database


def _stay(path: str) -> None:
    """Keep one connection open besides those of the requests: when the last one closes, SQLite
    folds the log into the file, which costs every request some milliseconds, and removes the log's
    index, for which a full disk has no room when the next one comes."""
    while _staying:
        _staying.pop().close()
    if path != ":memory:":
        _staying.append(sqlite3.connect(path, check_same_thread=False))
        _staying[0].execute("PRAGMA journal_mode = wal").fetchone()
        _staying[0].execute("SELECT count(*) FROM sqlite_master").fetchone()
