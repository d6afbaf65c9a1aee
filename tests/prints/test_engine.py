"""The queue never stands still: owners, waits, cancels, engines that fall."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest
from distributed import Client, LocalCluster

from dovrek.formats.kinds import holding
from dovrek.prints import cluster, engine, kept
from dovrek.prints.cluster import Workers
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store.orders import order_from
from tests.conftest import free_sun
from tools.processes import free_port

SKY = free_sun(40, name="Test sky", layers=[{"genus": "cumulus"}])


def placed(**fields: Any) -> int:
    order = order_from({"width": 96, "height": 54, "quality": "draft", **fields}, holding())
    return int(jobs.place(SKY, "test-sky", order).id)


def until(wanted: Callable[[], bool], seconds: float = 30.0) -> float:
    """Seconds until something is so; fails when it is not in time."""
    start = time.monotonic()
    while not wanted():
        assert time.monotonic() - start < seconds
        time.sleep(0.02)
    return time.monotonic() - start


def beginning(settings: Settings) -> threading.Thread:
    """An engine's attempt at the next print, on a thread of its own."""
    row = jobs.take(engine.OWNER)
    assert row is not None
    workers = Workers(settings.scheduler)
    thread = threading.Thread(target=engine.attempt, args=(row, settings, workers), daemon=True)
    thread.start()
    return thread


def test_a_scheduler_out_of_reach_is_waited_for_and_said(store: Settings) -> None:
    number = placed()
    far = replace(store, scheduler=f"tcp://127.0.0.1:{free_port()}")
    thread = beginning(far)
    until(lambda: "does not answer" in jobs.job(number).message)
    assert jobs.job(number).state == jobs.WORKING
    jobs.cancel(number)
    assert jobs.job(number).state == jobs.CANCELLED  # at once
    thread.join(10)
    assert not thread.is_alive()


def test_without_workers_a_print_waits_and_is_cancelled_within_a_second(store: Settings) -> None:
    with LocalCluster(n_workers=0, processes=False, dashboard_address=None,
                      host="127.0.0.1", protocol="tcp://") as none:
        number = placed()
        thread = beginning(replace(store, scheduler=none.scheduler_address))
        until(lambda: "has none" in jobs.job(number).message)
        jobs.cancel(number)
        assert until(lambda: not thread.is_alive(), 10.0) < 1.5


def test_waits_end_in_words(store: Settings, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(cluster, "WAIT_LIMIT_S", 0.5)
    number = placed()
    beginning(replace(store, scheduler=f"tcp://127.0.0.1:{free_port()}")).join(20)
    row = jobs.job(number)
    assert row.state == jobs.FAILED and "waited" in row.message and "retry" in row.message


def test_what_brings_engines_down_is_set_aside_and_the_next_goes_on(store: Settings) -> None:
    heavy, light = placed(), placed()
    for fallen in range(jobs.FALLS_MOST):
        row = jobs.take(f"engine-{fallen}")
        assert row is not None and row.id == heavy  # and this engine falls
    row = jobs.take("the next")
    assert row is not None and row.id == light
    assert jobs.job(heavy).state == jobs.FAILED and "fell 3 times" in jobs.job(heavy).message
    jobs.retry(heavy)
    assert jobs.job(heavy).fallen == 0


def test_a_print_has_one_owner(store: Settings) -> None:
    """What an engine writes that has lost its print to another goes nowhere."""
    number = placed()
    first = jobs.take("first")
    assert first is not None and jobs.take("second").id == number  # type: ignore[union-attr]
    assert not jobs.report(number, "first", done=3)
    assert not jobs.finish(number, "first", jobs.DONE)
    assert jobs.report(number, "second", done=1) and jobs.job(number).done == 1


@pytest.mark.parametrize("first", ["cancel", "finish"])
def test_cancel_or_finish_whichever_comes_first(store: Settings, first: str,
                                                monkeypatch: pytest.MonkeyPatch) -> None:
    """No file without a row, no row without its files."""
    number = placed(width=32, height=18)
    row = jobs.take(engine.OWNER)
    assert row is not None
    finish = jobs.finish

    def late(number: int, owner: str, state: str, **more: Any) -> bool:
        if first == "cancel":
            assert jobs.cancel(number)
        ended = finish(number, owner, state, **more)
        if first == "finish":
            assert not jobs.cancel(number)
        return ended

    monkeypatch.setattr(jobs, "finish", late)

    class Lent(Workers):
        def client(self, beat: Any) -> Any:
            return lent

    with Client(processes=False, n_workers=1, dashboard_address=None) as lent:
        engine.attempt(row, store, Lent(""))
    files = [p.name for p in store.prints.iterdir() if p.is_file()]
    if first == "cancel":
        assert jobs.job(number).state == jobs.CANCELLED and files == []
    else:
        assert jobs.job(number).state == jobs.DONE and len(files) == 2


def test_tiles_belong_to_what_is_printed(store: Settings) -> None:
    """The same document and order find the same tiles; any other, none of them."""
    from dovrek.prints.kept import digest_of

    rows = [jobs.job(placed()), jobs.job(placed()), jobs.job(placed(width=97))]
    digests = [digest_of(jobs.document_of(r), str(r.order)) for r in rows]
    assert digests[0] == digests[1] != digests[2]


def test_nobody_reaches_the_embedded_cluster() -> None:
    """Its scheduler speaks TLS alone, with keys that others do not have."""
    workers = Workers("")
    try:
        address = workers.client(lambda said: None).scheduler.address
        assert address.startswith("tls://127.0.0.1:")
        plain = address.replace("tls://", "tcp://")
        with pytest.raises((OSError, TimeoutError)):
            Client(plain, timeout=2, set_as_default=False)
        from distributed.security import Security

        with pytest.raises((OSError, TimeoutError)):
            Client(address, timeout=2, set_as_default=False, security=Security.temporary())
    finally:
        workers.drop()


def test_a_server_told_to_end_takes_engine_and_workers_along(home: Settings) -> None:
    from tools.soak import Server

    server = Server(home.home)
    server.start()
    try:
        second = subprocess.run(
            [sys.executable, "-m", "dovrek.cli", "serve", "--home", str(home.home), "--port",
             str(free_port())], capture_output=True, text=True, timeout=60, check=False)
        assert second.returncode == 2 and f"process {server.process.pid}" in second.stderr  # type: ignore[union-attr]
        until(lambda: len(server.processes()) > 1)
        known = server.processes()
        server.stop(signal.SIGTERM)
        until(lambda: not any(os.path.exists(f"/proc/{n}") for n in known), 15.0)
    finally:
        server.stop(signal.SIGKILL)


@pytest.mark.long
@pytest.mark.parametrize("days", [-40, 40])
def test_a_clock_that_is_set_throws_nothing_away_and_prints_go_on(
        store: Settings, monkeypatch: pytest.MonkeyPatch, days: int) -> None:
    """Set by forty days while a print is under way: forward it goes on; back the engine ends, for
    the library's timeouts would never come, and the next one takes the print over. What lies in
    the bin for thirty days is not taken for older than it is."""
    clock, hours = time.time, time.monotonic
    emptying = engine.Emptying()
    assert not emptying.due()
    number = placed(width=1440, height=384)
    row = jobs.take(engine.OWNER)
    assert row is not None
    workers, ended = Workers(store.scheduler), list[Exception]()

    def attempt() -> None:
        try:
            engine.attempt(row, store, workers)
        except cluster.SetBack as error:
            ended.append(error)

    thread = threading.Thread(target=attempt, daemon=True)
    thread.start()
    until(lambda: jobs.job(number).done >= 1, 240.0)
    with monkeypatch.context() as patch:
        patch.setattr(time, "time", lambda: clock() + days * 86400.0)
        thread.join(240)
        assert not thread.is_alive()
    if days < 0:
        assert len(ended) == 1 and jobs.job(number).state == jobs.WORKING
        workers.drop()
        again = jobs.take("the next engine")
        assert again is not None and again.id == number
        monkeypatch.setattr(engine, "OWNER", "the next engine")
        engine.attempt(again, store, Workers(store.scheduler))
    assert jobs.job(number).state == jobs.DONE
    monkeypatch.setattr(time, "time", lambda: clock() + days * 86400.0)
    monkeypatch.setattr(time, "monotonic", lambda: hours() + engine.SWEEP_SECONDS + 1.0)
    assert not emptying.due()
    monkeypatch.setattr(time, "monotonic", lambda: hours() + 2 * engine.SWEEP_SECONDS + 2.0)
    monkeypatch.setattr(time, "time", lambda: clock() + 2 * engine.SWEEP_SECONDS + 2.0)
    assert emptying.due()  # the clock that was there at the start is believed


def test_tiles_that_go_while_they_are_counted(store: Settings,
                                              monkeypatch: pytest.MonkeyPatch) -> None:
    """A print is finished, and its tiles removed, while the queue is being shown."""
    row = jobs.job(placed())
    row.digest = "abc"
    folder = kept.tile_folder(store, "abc")
    folder.mkdir(parents=True)
    (folder / "0.npz").write_bytes(b"tile")
    assert kept.bytes_of(store, row) == 4
    real = os.walk
    monkeypatch.setattr(os, "walk", lambda path: [
        (root, dirs, [*names, "gone.npz"]) for root, dirs, names in real(path)])
    assert kept.bytes_of(store, row) == 4
