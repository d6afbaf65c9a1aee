"""Run the application: pages under waitress, the live picture, the print engine beside them."""

from __future__ import annotations

import contextlib
import ctypes
import logging
import os
import signal
import subprocess
import sys
import threading
from typing import Any

import waitress.server

from dovrek.settings import Settings
from dovrek.store import skies
from dovrek.store.demo import load_demo
from dovrek.store.holding import Hold
from dovrek.store.tables import database
from dovrek.web.app import create_app
from dovrek.web.live.live import Live

THREADS = 24  # windows that wait for a picture hold one each
BODY_LIMIT = 256 * 1024 * 1024
# A page that is being written gives way to the renderer's short steps between two kernels so soon:
# each would else wait five thousandths, and a small picture has hundreds of them.
GIVES_WAY_S = 5e-4
# Heaps that threads take memory from (mallopt(3)): one each would keep what dozens have let go of.
M_ARENA_MAX, HEAPS = -8, 2
log = logging.getLogger("dovrek")


class PortTaken(Exception):
    """The address to serve at is another's."""


def _end(*_: object) -> None:
    """Told to end: the engine and its workers are ended too, as by Ctrl+C."""
    raise KeyboardInterrupt


def _share_heaps() -> None:
    """Have this process's threads, and those of the processes it starts, share few heaps."""
    os.environ.setdefault("MALLOC_ARENA_MAX", str(HEAPS))
    with contextlib.suppress(AttributeError, OSError):  # another C library than glibc
        ctypes.CDLL(None).mallopt(M_ARENA_MAX, HEAPS)


class Printer:
    """Keeps the print engine running as a process of its own."""

    def __init__(self, settings: Settings) -> None:
        self._settings = settings
        self._stop = threading.Event()
        self._process: subprocess.Popen[bytes] | None = None
        self._thread = threading.Thread(target=self._keep, name="printer", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _keep(self) -> None:
        command = [sys.executable, "-m", "dovrek.cli", "printer", "--home",
                   str(self._settings.home), "--parent", str(os.getpid())]
        if self._settings.scheduler:
            command += ["--scheduler", self._settings.scheduler]
        while not self._stop.is_set():
            self._process = subprocess.Popen(command)
            while self._process.poll() is None and not self._stop.wait(0.5):
                pass
            if not self._stop.is_set():
                log.warning("the print engine ended; starting it again")
                self._stop.wait(2.0)

    def stop(self) -> None:
        self._stop.set()
        if self._process is not None and self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(5)
            except subprocess.TimeoutExpired:
                self._process.kill()


def paint_gallery(live: Live) -> None:
    """Have every sky without a picture rendered once, while nobody waits: the gallery's first one
    before all, for what it needs is compiled on a new machine, then those asked for last."""
    with database.connection_context():
        rows = [(r.slug, r.head_id) for r in skies.gallery() if not r.painted]
        for slug, revision in rows[:1] + rows[:0:-1]:
            with contextlib.suppress(skies.UnreadableSky):  # the gallery says so
                live.paint(slug, skies.load(slug)[0], revision)


def run(settings: Settings, demo: bool) -> None:
    """Serve until interrupted or told to end. Raises HomeHeld, NewerStore, PortTaken."""
    logging.basicConfig(level=logging.INFO, format="%(message)s")
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    sys.setswitchinterval(GIVES_WAY_S)
    _share_heaps()
    hold = Hold(settings.home, "server", f"serving http://{settings.host}:{settings.port}")
    live = Live(width=settings.picture_width, refine=settings.refine)
    app = create_app(settings, live)
    app.config["STAYS_CONNECTED"] = True
    if demo:
        with database.connection_context():
            load_demo()
    try:
        server: Any = waitress.server.create_server(
            app, host=settings.host, port=settings.port, threads=THREADS,
            max_request_body_size=BODY_LIMIT, ident=None, channel_timeout=60)
    except OSError as error:
        live.close()
        raise PortTaken(f"{settings.host}:{settings.port} cannot be served "
                        f"({error.strerror or error})") from error
    signal.signal(signal.SIGTERM, _end)
    live.start()
    paint_gallery(live)
    printer = Printer(settings)
    printer.start()
    log.info("Dovrek is open at http://%s:%d", settings.host, settings.port)
    try:
        server.run()
    except KeyboardInterrupt:
        pass
    finally:
        printer.stop()
        live.close()
        hold.let_go()
