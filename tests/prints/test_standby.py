"""The engine before its first order: small, and awake as soon as something is ordered."""

from __future__ import annotations

import signal
import subprocess
import sys

import pytest
from peewee import OperationalError

from dovrek.prints import standby
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store.orders import Order
from tests.conftest import sky_of


def test_nothing_that_makes_prints_is_loaded_to_wait_for_one() -> None:
    heavy = ("numba", "distributed", "dovrek.core")
    said = subprocess.run(
        [sys.executable, "-c", "import sys, dovrek.prints.standby;"
         f"print([name for name in {heavy} if name in sys.modules])"],
        capture_output=True, text=True, check=True)
    assert said.stdout.strip() == "[]"


def test_an_order_wakes_it_and_one_laid_aside_does_not(store: Settings) -> None:
    assert not standby._ordered()
    row = jobs.place(sky_of(), "clear", Order(width=32, height=18))
    assert standby._ordered()
    assert jobs.pause(row.id) and not standby._ordered()
    assert jobs.resume(row.id) and standby._ordered()


def test_a_store_that_fails_is_the_engine_s_to_tell(monkeypatch: pytest.MonkeyPatch) -> None:
    def fails() -> bool:
        raise OperationalError("disk I/O error")

    monkeypatch.setattr(jobs, "any_open", fails)
    assert standby._ordered()


def test_told_twice_it_ends_once_and_in_peace() -> None:
    """As when a server ends: it tells its engine so, and is gone before that has closed all."""
    engine = subprocess.Popen(
        [sys.executable, "-c", "import atexit, time; from dovrek.prints import standby;"
         "standby._end_with_parent(); atexit.register(time.sleep, 0.5);"
         "atexit.register(print, 'closing', flush=True); print('up', flush=True); time.sleep(30)"],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert engine.stdout is not None
    for word in ("up", "closing"):
        assert engine.stdout.readline().strip() == word
        engine.send_signal(signal.SIGTERM)
    _, said = engine.communicate(timeout=20)
    assert engine.returncode == 0 and "Traceback" not in said
