"""Homes of every earlier shape open with all their rows, whenever their upgrade was killed."""

from __future__ import annotations

import contextlib
import os
import shutil
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from dovrek.store import print_jobs as jobs
from dovrek.store import skies
from dovrek.store.migrations import LATEST, NewerStore, upgrade
from dovrek.store.tables import (
    TABLES,
    Overlay,
    Reference,
    StoredRecipe,
    Version,
    database,
    open_database,
)

HOMES = sorted(Path(__file__).parent.glob("homes/*.sql"))


def home_of(text: str, path: Path) -> Path:
    """A database as an earlier release left it."""
    with contextlib.closing(sqlite3.connect(path)) as file:
        file.executescript(text)
        file.execute("PRAGMA journal_mode = wal")
    return path


def rows_of(path: Path) -> dict[str, list[tuple[Any, ...]]]:
    """All rows of all tables as they are, by the columns that the file has."""
    with contextlib.closing(sqlite3.connect(path)) as file:
        names = [n for (n,) in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        return {n: file.execute(f'SELECT * FROM "{n}"').fetchall() for n in sorted(names)}


def shape_of(path: Path) -> dict[str, set[tuple[str, int]]]:
    """Columns of every table, and whether they must hold something."""
    with contextlib.closing(sqlite3.connect(path)) as file:
        names = [n for (n,) in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        return {n: {(row[1], row[3]) for row in file.execute(f'PRAGMA table_info("{n}")')}
                for n in names}


def opens_with_everything(path: Path, versions: bool) -> None:
    open_database(path)
    with database.connection_context():
        assert skies.load("old-pans")[0].seed == 7 and skies.steps("old-pans") == (1, 1)
        assert skies.redo("old-pans").sky.seed == 1  # type: ignore[union-attr]
        skies.undo("old-pans")
        assert [row.slug for row in skies.binned()] == ["gone"]
        assert [row.state for row in jobs.all_jobs()] == ["waiting", "done"]
        assert (Version.select().count(), Reference.select().count(), Overlay.select().count(),
                StoredRecipe.select().count()) == ((1, 1, 1, 1) if versions else (0, 0, 0, 0))
        if versions:
            row = Reference.get()
            assert (row.name, row.horizon, row.skyline, bytes(row.picture)) == (
                "meadow", 0.7, "", b"png")


@pytest.mark.parametrize("dump", HOMES, ids=lambda p: p.stem)
def test_every_earlier_shape_opens_with_all_its_rows(tmp_path: Path, dump: Path) -> None:
    path = home_of(dump.read_text(), tmp_path / "dovrek.sqlite")
    before = rows_of(path)
    for _ in range(2):  # the second time there is nothing to do
        opens_with_everything(path, "version" in before)
    copy = tmp_path / f"dovrek.sqlite.before-step-{LATEST}"
    assert rows_of(copy) == before
    fresh = tmp_path / "fresh.sqlite"
    open_database(fresh)
    assert shape_of(path) == shape_of(fresh)


def test_the_tables_are_those_that_upgrades_lead_to(tmp_path: Path) -> None:
    """What the code reads and what the last step made are the same columns."""
    path = tmp_path / "new.sqlite"
    open_database(path)
    made = {n: {c for c, _ in columns} for n, columns in shape_of(path).items()}
    assert made == {t._meta.table_name: {f.column_name for f in t._meta.sorted_fields}
                    for t in TABLES}


@pytest.mark.parametrize("column", ["revision.gesture", "reference.skyline", "reference.note",
                                    "storedsky.picture_of", "printjob.finished"])
def test_a_home_that_lacks_a_column_keeps_its_rows(tmp_path: Path, column: str) -> None:
    """Rows that hang on a table outlive a column of it (once they went with its rebuilding)."""
    path = home_of(HOMES[-1].read_text(), tmp_path / "dovrek.sqlite")
    table, name = column.split(".")
    with contextlib.closing(sqlite3.connect(path)) as file:
        file.execute(f'ALTER TABLE "{table}" DROP COLUMN "{name}"')
        file.commit()
    opens_with_everything(path, True)


def test_an_upgrade_killed_at_every_statement_loses_nothing(tmp_path: Path) -> None:
    source = home_of(HOMES[0].read_text(), tmp_path / "source.sqlite")
    before = rows_of(source)
    statements = 0

    def killed_at(number: int) -> int:
        """Upgrade a copy in a process that ends by force at a statement; its exit status."""
        for left in tmp_path.glob("home.sqlite*"):
            left.unlink()
        shutil.copy(source, tmp_path / "home.sqlite")
        child = os.fork()
        if child:
            return os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        seen = 0

        def run(file: sqlite3.Connection, text: str) -> object:
            nonlocal seen
            seen += 1
            if seen == number:
                os._exit(9)
            return file.execute(text)

        upgrade(tmp_path / "home.sqlite", run)
        os._exit(0)

    while killed_at(statements + 1) == 9:
        statements += 1
        now = rows_of(tmp_path / "home.sqlite")
        assert now == before, f"killed at statement {statements}"
        opens_with_everything(tmp_path / "home.sqlite", False)
    assert statements > 20


def test_a_newer_store_is_refused_in_words(tmp_path: Path) -> None:
    path = tmp_path / "dovrek.sqlite"
    open_database(path)
    with contextlib.closing(sqlite3.connect(path)) as file:
        file.execute(f"PRAGMA user_version = {LATEST + 1}")
    with pytest.raises(NewerStore, match="newer release"):
        open_database(path)
    with contextlib.closing(sqlite3.connect(path)) as file:
        assert file.execute("PRAGMA user_version").fetchone()[0] == LATEST + 1
