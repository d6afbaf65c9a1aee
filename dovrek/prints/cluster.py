"""The workers of the prints: an embedded cluster that nobody else can reach, or a remote scheduler
that is waited for."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from concurrent.futures import CancelledError
from typing import Any
from weakref import WeakKeyDictionary

import dask
from distributed import Client, Future, LocalCluster
from distributed.comm.core import CommClosedError
from distributed.security import Security

from dovrek.prints.release import RELEASE, SAID, of_workers

CONNECT_S = 2.0  # a try to reach a scheduler
SET_BACK_S = 5.0  # by which a clock may be corrected
LOOK_S = 0.01
POLL_S = 0.5  # between looks at whether a print is still wanted
WAIT_LIMIT_S = 1800.0  # for a scheduler or a worker, before a print ends in words
log = logging.getLogger("dovrek.prints")

Beat = Callable[[str], None]  # says what is waited for; raises when the print is wanted no more


class SetBack(Exception):
    """The clock was set back: this process goes no further."""


class Lost(Exception):
    """The scheduler or its workers went away; what was stored is used when they are back."""


class NoWorkers(Exception):
    """Nobody came to work on a print for as long as waiting makes sense."""


class Workers:
    """One connection to the workers, made when it is needed and made again when it is lost."""

    def __init__(self, scheduler: str) -> None:
        self._scheduler = scheduler
        self._client: Client | None = None
        self._cluster: LocalCluster | None = None
        self._seen: set[str] = set()  # workers whose release was asked for

    def client(self, beat: Beat) -> Client:
        """A client with at least one worker. Raises NoWorkers, and what `beat` raises."""
        end = time.monotonic() + WAIT_LIMIT_S
        while True:
            said = self._try()
            if said == "" and self._client is not None:
                return self._client
            if time.monotonic() > end:
                raise NoWorkers(f"It waited {WAIT_LIMIT_S / 60:.0f} minutes: {said}")
            beat(said)
            time.sleep(POLL_S)

    def _try(self) -> str:
        """Get nearer to a worker; what is still missing, or nothing."""
        if self._client is None:
            try:
                self._client = self._connected()
            except (OSError, TimeoutError, ValueError) as error:
                log.info("no scheduler: %s", error)
                return (f"waiting for the scheduler {self._scheduler}, which does not answer; "
                        "start it, or unset DOVREK_SCHEDULER")
        try:
            if self._client.status == "running" and self._client.scheduler_info()["workers"]:
                return self._unlike()
            if self._client.status != "running":
                self.drop()
                return "waiting for the scheduler, which went away"
        except (OSError, TimeoutError, CommClosedError):
            self.drop()
            return "waiting for the scheduler, which went away"
        return "waiting for a worker: the scheduler has none"

    def _unlike(self) -> str:
        """What keeps all workers of a scheduler from printing: another release; nothing when some
        are of this one, which alone are then given work."""
        assert self._client is not None
        there = set(self._client.scheduler_info()["workers"])
        if not self._scheduler or there == self._seen:
            return ""
        releases = of_workers(self._client)
        alike = sorted(address for address, said in releases.items() if said == RELEASE)
        if not alike:
            others = ", ".join(sorted(set(releases.values()))) or "not there any more"
            return (f"waiting for a worker of release {RELEASE}: the scheduler's are {others}; "
                    "update them")
        self._seen = there
        _ALIKE[self._client] = alike
        self._client.set_metadata([SAID], RELEASE)
        return ""

    def _connected(self) -> Client:
        ahead = _ahead()
        client = self._new_client()
        _CLOCKS[client] = ahead
        return client

    def _new_client(self) -> Client:
        if self._scheduler:
            return Client(self._scheduler, timeout=CONNECT_S, set_as_default=False)
        # No pages about it, which any user of the machine could read.
        dask.config.set({"distributed.scheduler.http.routes": [],
                         "distributed.worker.http.routes": []})
        # Keys of its own, in memory: nobody else on the machine can speak to it or be taken for it.
        # What fails comes back to the engine, which says it; a worker told to end amid a tile would
        # fill the terminal with connections that close.
        self._cluster = LocalCluster(
            n_workers=1, threads_per_worker=2, processes=True, dashboard_address=None,
            worker_dashboard_address=None, host="127.0.0.1", memory_limit=0, protocol="tls://",
            silence_logs=logging.CRITICAL, security=Security.temporary())
        return Client(self._cluster, set_as_default=False)

    def drop(self) -> None:
        """Let go of what does not answer."""
        client, cluster = self._client, self._cluster
        self._client = self._cluster = None
        self._seen = set()
        for held in (client, cluster):
            if held is not None:
                try:
                    held.close(timeout=5)
                except Exception:  # it was lost, and may say so in any way
                    log.info("letting go of lost workers", exc_info=True)


# A remote scheduler's workers of this release: others, and any that come later, get no work.
_ALIKE: WeakKeyDictionary[Client, list[str]] = WeakKeyDictionary()
_CLOCKS: WeakKeyDictionary[Client, float] = WeakKeyDictionary()  # wall's over the steady one


def workers_of(client: Client) -> dict[str, int]:
    """The workers that are there now and of this release: threads, by address."""
    there, alike = client.scheduler_info()["workers"], _ALIKE.get(client)
    return {address: int(said["nthreads"]) for address, said in there.items()
            if alike is None or address in alike}


def submitted(client: Client, task: Callable[..., Any], *given: Any, at: str = "") -> Future[Any]:
    """A task given to a worker of this release, or to the one at an address alone."""
    chosen = [at] if at else _ALIKE.get(client)
    return client.submit(task, *given, pure=False, **({"workers": chosen} if chosen else {}))


def result_of(future: Future[Any], beat: Beat) -> Any:
    """What a task leads to. Raises Lost, what the task raised, and what `beat` raises."""
    end = time.monotonic() + WAIT_LIMIT_S
    while not future.done():
        next_done([future], beat, end)
    return taken(future)


def next_done(futures: list[Future[Any]], beat: Beat, end: float) -> list[Future[Any]]:
    """Those of some tasks that are done, waited for a moment. Raises Lost, NoWorkers."""
    # Looked at from here: a wait of the library's own never ends once the clock was set back.
    until, done = time.monotonic() + POLL_S, list[Future[Any]]()
    while not done and time.monotonic() < until:
        _same_clock(futures[0].client)
        done = [f for f in futures if f.done()]
        if not done:
            time.sleep(LOOK_S)
    client = futures[0].client
    if client.status not in ("running", "connecting"):
        raise Lost("the scheduler went away")
    said = ""
    if not done and client.status == "connecting":
        said = "waiting for the scheduler, which went away"
    elif not done and not client.scheduler_info()["workers"]:
        said = "waiting for a worker: the scheduler has none"
    if said and time.monotonic() > end:
        raise NoWorkers(f"It waited {WAIT_LIMIT_S / 60:.0f} minutes: {said}")
    beat(said)
    return done


def _same_clock(client: Client) -> None:
    """Raises SetBack when the clock was set back since the client was first seen: what it sends
    waits for moments that then lie far ahead (timeouts of its event loop go by the wall's
    clock), and so would any other of this process."""
    ahead = _ahead()
    if ahead < _CLOCKS.setdefault(client, ahead) - SET_BACK_S:
        raise SetBack("the clock was set back")


def _ahead() -> float:
    """How far the wall's clock is ahead of the steady one, seconds."""
    return time.time() - time.monotonic()


def taken(future: Future[Any]) -> Any:
    """The result of a task that is done. Raises Lost when its scheduler dropped it."""
    if future.status in ("cancelled", "lost"):
        raise Lost("the scheduler dropped a task")
    try:
        return future.result(timeout=60)
    except (CommClosedError, CancelledError, TimeoutError) as error:
        raise Lost(str(error)) from error
