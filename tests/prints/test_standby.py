"""The engine before its first order: small, and awake as soon as something is ordered."""

from __future__ import annotations

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
