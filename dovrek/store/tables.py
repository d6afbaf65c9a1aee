"""The tables. Every change of a sky is a revision; nothing is overwritten."""

from __future__ import annotations

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

database = SqliteDatabase(None)


def now() -> datetime:
    return datetime.now(UTC).replace(tzinfo=None)


class Table(Model):
    id = AutoField()

    class Meta:
        database = database


class StoredSky(Table):
    """A sky: its place in the gallery and the revision it stands at."""

    head_id: int
    slug = CharField(unique=True, max_length=140)
    name = CharField(max_length=120)
    head = DeferredForeignKey("Revision", null=True, backref=None)
    deleted = BooleanField(default=False, index=True)
    created = DateTimeField(default=now)
    changed = DateTimeField(default=now, index=True)
    picture = BlobField(null=True)
    picture_of = IntegerField(null=True)  # the revision the picture shows


class Revision(Table):
    """One state of a sky; `parent` is the state before, `redo` the one undone last."""

    parent_id: int | None
    sky = ForeignKeyField(StoredSky, backref="revisions", on_delete="CASCADE")
    parent = ForeignKeyField("self", null=True)
    redo = IntegerField(null=True)
    document = TextField()
    note = CharField(max_length=200)
    gesture = CharField(max_length=60, default="")  # values of one drag share it
    created = DateTimeField(default=now)


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


TABLES = [StoredSky, Revision, PrintJob]


def open_database(path: Path | str) -> Any:
    """Bind and create the tables. Write-ahead log, so that a crash loses nothing committed."""
    if not database.is_closed():
        database.close()
    database.init(str(path), pragmas={
        "journal_mode": "wal", "foreign_keys": 1, "busy_timeout": 8000, "synchronous": "normal",
    })
    with database.connection_context():
        database.create_tables(TABLES)
    return database
