"""The print engine: a process of its own that works through the ordered prints.

The rows in the store are the queue. Tiles are computed on dask workers (an embedded local
cluster, or a remote scheduler), stored as they come, and put together at the end; after a crash
or a kill the next engine goes on with what is stored.
"""

from __future__ import annotations

import json
import logging
import os
import shutil
import socket
import time

from peewee import OperationalError

from dovrek.formats.whole_file import sync_folder
from dovrek.prints.cluster import (
    Lost,
    NoWorkers,
    SetBack,
    Workers,
)
from dovrek.prints.kept import TILES_DAYS, digest_of, sweep, tile_folder
from dovrek.prints.makers import MAKERS, Task
from dovrek.prints.standby import LOOKS_S, alive
from dovrek.settings import Settings
from dovrek.sky.reading import sky_from_text
from dovrek.store import print_jobs as jobs
from dovrek.store.orders import VOLUME, Order, OrderError
from dovrek.store.tables import PrintJob

STORE_SECONDS = 2.0  # before the store is tried again
SWEEP_SECONDS = 600.0
CLOCK_STEP_S = 3600.0  # a clock that was set by more is not believed: nothing is thrown away
log = logging.getLogger("dovrek.prints")
OWNER = f"{socket.gethostname()[:40]}-{os.getpid()}-{time.time_ns() // 10**6}"


class Unwanted(Exception):
    """The print was cancelled by its owner."""


def run(settings: Settings, parent: int) -> None:
    """Work until the parent process is gone or this one is told to end; `standby` has opened the
    store and holds the home."""
    sweep(settings, at_start=True)
    workers, emptying = Workers(settings.scheduler), Emptying()
    try:
        while alive(parent):
            try:
                row = jobs.take(OWNER)
                if row is not None:
                    attempt(row, settings, workers)
                    continue
            except OperationalError as error:  # a full disk: what was begun goes on when it can
                log.warning("the store: %s; trying again", error)
                time.sleep(STORE_SECONDS)
                continue
            if emptying.due():
                sweep(settings)
            time.sleep(LOOKS_S)
    except SetBack as error:
        log.warning("%s; the next engine goes on", error)
    finally:
        workers.drop()


def attempt(row: PrintJob, settings: Settings, workers: Workers) -> None:
    """Work on a print and write down how it ended. Raises OperationalError when the store cannot
    be written: the print stays this engine's; and SetBack: the next engine goes on with it."""
    try:
        while True:
            try:
                work(row, settings, workers)
                return
            except Lost as error:
                log.warning("print %s goes on with other workers: %s", row.id, error)
                workers.drop()
    except Unwanted:
        return
    except SetBack:
        raise
    except OSError as error:
        _failed(row, disk_message(error))
    except NoWorkers as error:
        _failed(row, f"{error}. Then retry.")
    except OrderError as error:
        _failed(row, f"{error}.")
    except OperationalError:
        raise
    except Exception as error:
        log.exception("print %s failed", row.id)
        _failed(row, f"The print failed: {error}.")


def _failed(row: PrintJob, said: str) -> None:
    jobs.finish(row.id, OWNER, jobs.FAILED, message=(
        f"{said} Its finished tiles are kept for {TILES_DAYS} days; retry goes on with them."))


def disk_message(error: OSError) -> str:
    """Words for a file that could not be written."""
    return (f"The disk took no more: {error.strerror or error}. Nothing half-written was left; "
            "free some space, then retry.")


class Emptying:
    """When what is out of date is thrown away: from time to time, and never by a clock that was
    set while the engine ran, for what is a month old may then be of today."""

    def __init__(self) -> None:
        self._last = time.monotonic()
        self._clock = time.time() - self._last

    def due(self) -> bool:
        present = time.monotonic()
        if present - self._last <= SWEEP_SECONDS:
            return False
        self._last = present
        return abs(time.time() - present - self._clock) < CLOCK_STEP_S


class Progress:
    """How far a print is, written into its row, and whether it is still wanted."""

    def __init__(self, row: PrintJob, total: int) -> None:
        self.number, self.total, self.done = row.id, total, 0
        self._before, self._start = float(row.seconds), time.monotonic()

    @property
    def seconds(self) -> float:
        return self._before + time.monotonic() - self._start

    def beat(self, waiting: str = "") -> None:
        """Say that work goes on, or what it waits for. Raises Unwanted."""
        if not jobs.report(self.number, OWNER, done=self.done, total=self.total,
                           seconds=self.seconds, message=waiting):
            raise Unwanted


def name_of(row: PrintJob, order: Order) -> str:
    """What a print's files are called."""
    size = (f"{order.voxel_m:g}m" if order.kind == VOLUME else f"{order.width}x{order.height}")
    return f"{row.sky_slug}-{size}-{row.id}"


def work(row: PrintJob, settings: Settings, workers: Workers) -> None:
    """One print from its rows to its files. Raises OSError, Unwanted, Lost, NoWorkers."""
    order, document = jobs.order_of(row), jobs.document_of(row)
    digest = digest_of(document, str(row.order))
    folder = tile_folder(settings, digest)
    progress = Progress(row, 0)
    jobs.report(row.id, OWNER, digest=digest)
    folder.mkdir(parents=True, exist_ok=True)
    files = MAKERS[order.kind](Task(
        name_of(row, order), order, sky_from_text(document),
        document, folder, settings.prints, progress, lambda: workers.client(progress.beat)))
    if not jobs.finish(row.id, OWNER, jobs.DONE, file=files[0].name, done=progress.total,
                       files=json.dumps([path.name for path in files]), message="",
                       total=progress.total, seconds=progress.seconds):
        for written in files:  # a cancel came first: no file without a row
            written.unlink(missing_ok=True)
        sync_folder(settings.prints)
        raise Unwanted
    shutil.rmtree(folder, ignore_errors=True)
