"""The print engine before its first order: a small process that only looks whether there is one.

What makes prints takes two seconds to load and 200 MB to keep; after a start the first picture
wants both. It is loaded with the first order, or when it is time to throw away what is out of date.
"""

from __future__ import annotations

import ctypes
import logging
import os
import signal
import sys
import time

from peewee import OperationalError

from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store.holding import Hold, HomeHeld
from dovrek.store.tables import open_database

LOOKS_S = 0.5  # between two looks for an order
STANDBY_S = 600.0
NICENESS = 10
PR_SET_PDEATHSIG = 1  # prctl(2)
log = logging.getLogger("dovrek.prints")


def run(settings: Settings, parent: int) -> None:
    """Wait for an order, then work until the parent process is gone or this one is told to end."""
    os.nice(NICENESS)
    _end_with_parent()
    open_database(settings.database)
    hold = _hold(settings, parent)
    if hold is None:
        return
    until = time.monotonic() + STANDBY_S
    while alive(parent) and not _ordered() and time.monotonic() < until:
        time.sleep(LOOKS_S)
    if alive(parent):
        from dovrek.prints import engine

        engine.run(settings, parent)


def alive(process: int) -> bool:
    """Whether the process that started this one (0: none is looked after) is still there."""
    return process in (0, os.getppid())


def _ordered() -> bool:
    try:
        return jobs.any_open()
    except OperationalError:  # the engine says what is wrong with the store, and tries again
        return True


def _end_with_parent() -> None:
    """Have the system end this process when the one that started it goes, however it goes."""
    signal.signal(signal.SIGTERM, _end)
    try:
        ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    except (AttributeError, OSError):  # not Linux: the loops look after the parent
        return


def _end(*_: object) -> None:
    """End, once: the parent's word and its going each tell so, the second while workers close."""
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
    sys.exit(0)


def _hold(settings: Settings, parent: int) -> Hold | None:
    """The hold of the home's only engine, once the one before has gone."""
    while alive(parent):
        try:
            return Hold(settings.home, "engine", "")
        except HomeHeld as error:
            log.info("waiting: %s", error)
            time.sleep(LOOKS_S)
    return None
