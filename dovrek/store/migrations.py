"""How a home's database came to its present shape, step by step.

The database says by `user_version` which step it stands at. An upgrade copies the file first, then
takes all missing steps in one transaction: it is whole or not there at all, whenever it is killed
(SQLite: DDL and `user_version` are part of the transaction, foreign keys can wait for its end).
Statements here are frozen: they say what a step did, not what the tables are today.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
from collections.abc import Callable
from pathlib import Path

Statement = Callable[[str], object]


class NewerStore(Exception):
    """The database was written by a newer release than this one."""


# Step 1: what a home of any age lacks of the tables as they were when steps began to be counted.
# A column is its name, its type, and its first value in rows that did not have it.
KEY = '"id" INTEGER NOT NULL PRIMARY KEY'
OF_SKY = 'INTEGER NOT NULL REFERENCES "storedsky" ("id") ON DELETE CASCADE'
MOMENT = "DATETIME NOT NULL", "'2026-01-01 00:00:00'"
TEXT, COUNT, AMOUNT = ("TEXT NOT NULL", "''"), ("INTEGER NOT NULL", "0"), ("REAL NOT NULL", "0")
SHAPE_1: dict[str, dict[str, tuple[str, str]]] = {
    "storedsky": {
        "slug": ("VARCHAR(140) NOT NULL", "''"), "name": ("VARCHAR(120) NOT NULL", "''"),
        "deleted": COUNT, "created": MOMENT, "changed": MOMENT, "picture": ("BLOB", "NULL"),
        "picture_of": ("INTEGER", "NULL"), "head_id": ("INTEGER", "NULL")},
    "revision": {
        "sky_id": (OF_SKY, ""), "parent_id": ('INTEGER REFERENCES "revision" ("id")', "NULL"),
        "redo": ("INTEGER", "NULL"), "document": TEXT, "note": ("VARCHAR(200) NOT NULL", "''"),
        "gesture": ("VARCHAR(60) NOT NULL", "''"), "created": MOMENT},
    "version": {
        "sky_id": (OF_SKY, ""), "name": ("VARCHAR(120) NOT NULL", "''"), "document": TEXT,
        "created": MOMENT},
    "reference": {
        "sky_id": (OF_SKY, ""), "name": ("VARCHAR(120) NOT NULL", "''"),
        "picture": ("BLOB NOT NULL", "x''"), "width": COUNT, "height": COUNT,
        "lens_mm": ("REAL NOT NULL", "28.0"), "horizon": ("REAL NOT NULL", "1.0"),
        "ratio": ("REAL NOT NULL", "0.82"), "skyline": TEXT,
        "note": ("VARCHAR(200) NOT NULL", "''"), "created": MOMENT},
    "storedrecipe": {
        "name": ("VARCHAR(80) NOT NULL", "''"), "document": TEXT, "picture": ("BLOB", "NULL"),
        "created": MOMENT},
    "overlay": {
        "sky_id": (OF_SKY, ""), "name": ("VARCHAR(120) NOT NULL", "''"),
        "picture": ("BLOB NOT NULL", "x''")},
    "printjob": {
        "sky_slug": ("VARCHAR(140) NOT NULL", "''"), "title": ("VARCHAR(160) NOT NULL", "''"),
        "document": TEXT, "order": TEXT, "state": ("VARCHAR(20) NOT NULL", "'waiting'"),
        "done": COUNT, "total": COUNT, "seconds": AMOUNT, "message": TEXT,
        "file": ("VARCHAR(200) NOT NULL", "''"), "created": MOMENT,
        "finished": ("DATETIME", "NULL")},
}
INDEXES_1 = ("UNIQUE storedsky.slug", "storedsky.deleted", "storedsky.changed", "storedsky.head_id",
             "revision.sky_id", "revision.parent_id", "version.sky_id", "reference.sky_id",
             "storedrecipe.name", "UNIQUE overlay.sky_id", "printjob.sky_slug", "printjob.state")


def _shape_1(file: sqlite3.Connection, run: Statement) -> None:
    for table, columns in SHAPE_1.items():
        had = {row[1] for row in file.execute(f'PRAGMA table_info("{table}")')}
        if not had:
            body = ", ".join([KEY, *(f'"{c}" {kind}' for c, (kind, _) in columns.items())])
            run(f'CREATE TABLE "{table}" ({body})')
            continue
        for column, (kind, first) in columns.items():
            if column not in had:
                run(f'ALTER TABLE "{table}" ADD COLUMN "{column}" {kind} DEFAULT {first}')
    for index in INDEXES_1:
        unique, _, place = index.rpartition(" ")
        table, column = place.split(".")
        run(f'CREATE {unique} INDEX IF NOT EXISTS "{table}_{column}" ON "{table}" ("{column}")')


def _shape_2(file: sqlite3.Connection, run: Statement) -> None:
    """Older revisions packed against a whole one, pictures of maps stored once by their content,
    a bin with a date, prints with an owner."""
    run('ALTER TABLE "revision" ADD COLUMN "packed" BLOB')
    run('ALTER TABLE "revision" ADD COLUMN "basis" INTEGER')
    run('ALTER TABLE "storedsky" ADD COLUMN "binned" DATETIME')
    run('UPDATE "storedsky" SET "binned" = "changed" WHERE "deleted"')
    for column, kind in (("owner", "VARCHAR(80) NOT NULL DEFAULT ''"), ("heartbeat", "DATETIME"),
                         ("fallen", "INTEGER NOT NULL DEFAULT 0"),
                         ("digest", "VARCHAR(64) NOT NULL DEFAULT ''"), ("binned", "DATETIME")):
        run(f'ALTER TABLE "printjob" ADD COLUMN "{column}" {kind}')
    run(f'CREATE TABLE "asset" ({KEY}, "digest" VARCHAR(64) NOT NULL, "data" TEXT NOT NULL)')
    run('CREATE UNIQUE INDEX "asset_digest" ON "asset" ("digest")')


def _shape_3(file: sqlite3.Connection, run: Statement) -> None:
    """Prints of several files, ordered together and foretold; orders kept as habits."""
    for column, kind in (("files", "TEXT NOT NULL DEFAULT ''"),
                         ("party", "INTEGER NOT NULL DEFAULT 0"),
                         ("expected", "REAL NOT NULL DEFAULT 0")):
        run(f'ALTER TABLE "printjob" ADD COLUMN "{column}" {kind}')
    run(f'CREATE TABLE "orderhabit" ({KEY}, "name" VARCHAR(80) NOT NULL, "order" TEXT NOT NULL, '
        '"created" DATETIME NOT NULL)')
    run('CREATE UNIQUE INDEX "orderhabit_name" ON "orderhabit" ("name")')


STEPS = (_shape_1, _shape_2, _shape_3)
LATEST = len(STEPS)


def upgrade(path: Path, run: Callable[[sqlite3.Connection, str], object] | None = None) -> None:
    """Bring a database to the present shape; a new file gets it at once. Raises NewerStore.

    `run` executes one statement of an upgrade (the tests kill it there).
    """
    with contextlib.closing(sqlite3.connect(path, timeout=30.0, isolation_level=None)) as file:
        at = _step_of(file)
        if at > LATEST:
            raise NewerStore(
                f"the store {path} was written by a newer release (step {at}, this one knows "
                f"{LATEST}); use that release, or another folder with --home")
        if at == LATEST:
            return
        if file.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
            _copied(file, path.with_name(f"{path.name}.before-step-{LATEST}"))
        file.execute("PRAGMA foreign_keys = OFF")
        execute = run or sqlite3.Connection.execute

        def one(text: str) -> object:
            return execute(file, text)

        one("BEGIN IMMEDIATE")
        try:
            for step in range(_step_of(file), LATEST):  # another process may have been quicker
                STEPS[step](file, one)
            one(f"PRAGMA user_version = {LATEST}")
            one("COMMIT")
        except BaseException:
            if file.in_transaction:
                file.execute("ROLLBACK")
            raise


def _step_of(file: sqlite3.Connection) -> int:
    return int(file.execute("PRAGMA user_version").fetchone()[0])


def _copied(file: sqlite3.Connection, copy: Path) -> None:
    """A copy of the file as it was, beside it, whole or not at all."""
    part = copy.with_name(f"{copy.name}.part-{os.getpid()}")
    try:
        with contextlib.closing(sqlite3.connect(part)) as target:
            file.backup(target)
        os.replace(part, copy)
    finally:
        part.unlink(missing_ok=True)
