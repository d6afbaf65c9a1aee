"""Processes of their own for what is measured or tested: a port, a scheduler, workers."""

from __future__ import annotations

import socket
import subprocess
import sys
import time
from pathlib import Path

READY_S = 90.0


def free_port() -> int:
    """A port of this machine that nobody listens at."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def started(*command: str, ready: str, log: Path) -> subprocess.Popen[bytes]:
    """A module of Python as a process, once its log says something. Raises RuntimeError with what
    it said instead."""
    with log.open("wb") as out:
        made = subprocess.Popen([sys.executable, "-m", *command], stdout=out, stderr=out)
    end = time.monotonic() + READY_S
    while ready not in log.read_text():
        if made.poll() is not None or time.monotonic() > end:
            raise RuntimeError(log.read_text())
        time.sleep(0.1)
    return made


def scheduler(address: str, folder: Path) -> subprocess.Popen[bytes]:
    """A scheduler at an address; its log is kept in the folder."""
    return started("distributed.cli.dask_scheduler", "--host", address, "--no-dashboard",
                   ready="Scheduler at", log=folder / "scheduler.log")


def worker(address: str, folder: Path, name: str) -> subprocess.Popen[bytes]:
    """A worker of a scheduler, of one task at a time."""
    return started("dovrek.cli", "worker", "--scheduler", address, "--threads", "1", "--name", name,
                   ready="works for", log=folder / f"{name}.log")
