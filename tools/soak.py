"""Many hands for a while: python -m tools.soak [clients] [minutes].

Starts the application over a new home and lets clients work at it as windows do: changes in
gestures, undo and redo, test strips, pages, imports, exports, prints, the live picture. Reports
errors, how long answers took (median, 95th and 99th of a hundred), memory of all its processes and
what the home takes, over time.
"""

from __future__ import annotations

import http.cookiejar
import json
import os
import random
import re
import signal
import subprocess
import sys
import tempfile
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from tools.processes import free_port

WIDTH = 480  # of the live picture: a quarter of the usual pixels, less to wait for
WAITED = {"picture"}  # answers that wait on purpose are not counted as slow


class Server:
    """The application as `dovrek demo` starts it, over a home of its own."""

    width = WIDTH

    def __init__(self, home: Path, *more: str, before: Sequence[str] = ()) -> None:
        self.port = free_port()
        self.home, self.url = home, f"http://127.0.0.1:{self.port}"
        self.more, self.before = more, before
        self.process: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        self.process = subprocess.Popen(
            [*self.before, sys.executable, "-m", "dovrek.cli", "demo", "--home", str(self.home),
             "--port", str(self.port), "--picture-width", str(self.width), *self.more],
            start_new_session=True,
            stderr=(self.home.parent / "server.log").open("ab"))
        end = time.monotonic() + 90
        while True:
            try:
                urllib.request.urlopen(self.url, timeout=2).close()
                return
            except OSError:
                if time.monotonic() > end or self.process.poll() is not None:
                    raise
                time.sleep(0.1)

    def stop(self, how: int = signal.SIGTERM) -> None:
        if self.process is not None and self.process.poll() is None:
            self.process.send_signal(how)
            self.process.wait(30)

    def processes(self) -> list[int]:
        """The server, its engine and its workers."""
        found, all_of = [], children_by_parent()
        todo = [self.process.pid] if self.process else []
        while todo:
            found.append(todo.pop())
            todo += all_of[found[-1]]
        return found


def children_by_parent() -> dict[int, list[int]]:
    """Every process of the system by its parent (proc(5))."""
    found: dict[int, list[int]] = defaultdict(list)
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            text = stat.read_text()
        except OSError:
            continue
        found[int(text.rpartition(")")[2].split()[1])].append(int(stat.parent.name))
    return found


def memory_mb(processes: list[int]) -> float:
    total = 0.0
    for number in processes:
        try:
            fields = Path(f"/proc/{number}/statm").read_text().split()
        except OSError:
            continue
        total += int(fields[1]) * os.sysconf("SC_PAGE_SIZE") / 2**20
    return total


def disk_mb(folder: Path) -> float:
    return sum(p.stat().st_size for p in folder.rglob("*") if p.is_file()) / 1e6


class Hand(threading.Thread):
    """One client: a window's cookie and token, a sky of its choice, one act after another."""

    def __init__(self, url: str, number: int, stop: threading.Event) -> None:
        super().__init__(daemon=True)
        self.url, self.stop, self.rng = url, stop, random.Random(number)
        self.opener = urllib.request.build_opener(
            urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        self.seconds: dict[str, list[float]] = defaultdict(list)
        self.errors: list[str] = []
        self.stored: dict[str, int] = {}  # what the server has taken, by sky: its last seed
        self.token = ""

    def ask(self, act: str, path: str, data: Any = None, form: bytes = b"",
            kind: str = "") -> bytes:
        """One request, timed; words on what went wrong are kept."""
        headers = {"X-Token": self.token, "Content-Type": kind or "application/json"}
        body = form or (json.dumps(data).encode() if data is not None else None)
        start = time.perf_counter()
        try:
            request = urllib.request.Request(self.url + path, body, headers)
            with self.opener.open(request, timeout=60) as answer:
                found: bytes = answer.read()
        except urllib.error.HTTPError as error:
            found = error.read()
            if error.code not in (404, 409, 422, 503):  # words are an answer
                self.errors.append(f"{act}: {error.code} {found[:200]!r}")
        except OSError as error:
            if not self.stop.is_set():
                self.errors.append(f"{act}: {error}")
            return b""
        self.seconds[act].append(time.perf_counter() - start)
        return found

    def run(self) -> None:
        found = re.search(rb'data-token="([^"]+)"', self.ask("page", "/"))
        self.token = found[1].decode() if found else ""
        while not self.stop.is_set():
            slug = self.rng.choice(("fair-weather-noon", "last-light", "high-streaks"))
            getattr(self, self.rng.choice(
                ["drag"] * 5 + ["undo", "redo", "look", "look", "panels", "strip", "pages",
                                "bring", "export", "order"]))(slug)
            time.sleep(self.rng.uniform(0.05, 0.5))

    def revision(self, slug: str) -> int:
        page = self.ask("page", f"/skies/{slug}/")
        found = re.search(rb'data-revision="(\d+)"', page)
        return int(found[1]) if found else 0

    def drag(self, slug: str) -> None:
        base, gesture = self.revision(slug), f"g{self.rng.random()}"
        for _ in range(self.rng.randrange(1, 6)):
            said = self.ask("change", f"/skies/{slug}/change", {
                "base": base, "values": {"seed": self.rng.randrange(99), "air.haze": round(
                    self.rng.uniform(0, 1), 2)}, "note": "soak", "gesture": gesture})
            if said.startswith(b"{"):
                base = json.loads(said).get("revision", base)

    def undo(self, slug: str) -> None:
        self.ask("undo", f"/skies/{slug}/undo", {"base": 1})

    def redo(self, slug: str) -> None:
        self.ask("redo", f"/skies/{slug}/redo", {"base": 1})

    def look(self, slug: str) -> None:
        self.ask("picture", f"/skies/{slug}/live?serial=0&progress=-1&revision=0")

    def panels(self, slug: str) -> None:
        self.ask("panels", f"/skies/{slug}/panels?touched=layers,steps")

    def strip(self, slug: str) -> None:
        self.ask("strip", f"/skies/{slug}/strip", {"path": "air.haze", "count": 3})

    def pages(self, slug: str) -> None:
        for path in ("/", "/recipes", "/prints", "/guide", "/bin/", f"/skies/{slug}/compare"):
            self.ask("page", path)

    def export(self, slug: str) -> None:
        self.ask("export", f"/skies/{slug}/export.json")

    def bring(self, slug: str) -> None:
        text = json.dumps({"dovrek": 1, "name": f"Brought {self.rng.randrange(5)}"})
        edge = "edge"
        body = (f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="a.json"\r\n'
                f"Content-Type: application/json\r\n\r\n{text}\r\n--{edge}--\r\n")
        self.ask("import", "/skies/import", form=body.encode(),
                 kind=f"multipart/form-data; boundary={edge}")

    def order(self, slug: str) -> None:
        if self.rng.random() < 0.15:
            form = urllib.parse.urlencode({"width": 96, "height": 54, "quality": "draft"})
            self.ask("order", f"/skies/{slug}/prints", form=form.encode(),
                     kind="application/x-www-form-urlencoded")


def soak(clients: int, seconds: float, out: Any = sys.stdout) -> dict[str, Any]:
    """Run clients for a while; errors, times by act, memory and disk over time."""
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "home")
        server.start()
        stop = threading.Event()
        hands = [Hand(server.url, k, stop) for k in range(clients)]
        for hand in hands:
            hand.start()
        start, told = time.monotonic(), []
        while time.monotonic() - start < seconds:
            time.sleep(min(30.0, seconds / 4))
            told.append((round(time.monotonic() - start), round(memory_mb(server.processes())),
                         round(disk_mb(server.home), 1)))
            print("{:5d} s  {:6d} MB memory  {:7.1f} MB disk".format(*told[-1]), file=out,
                  flush=True)
        stop.set()
        for hand in hands:
            hand.join(30)
        server.stop()
        log = (Path(folder) / "server.log").read_text()
    found: dict[str, list[float]] = defaultdict(list)
    for hand in hands:
        for act, times in hand.seconds.items():
            found[act] += times
    return {"errors": [e for hand in hands for e in hand.errors], "over_time": told,
            "tracebacks": log.count("Traceback"), "log": log,
            "seconds": {act: quantiles(times) for act, times in sorted(found.items())}}


def quantiles(times: list[float]) -> tuple[int, float, float, float]:
    """How many, and the median, 95th and 99th of a hundred."""
    ordered = sorted(times)
    return (len(ordered), *(round(ordered[min(int(q * len(ordered)), len(ordered) - 1)], 3)
                            for q in (0.5, 0.95, 0.99)))


def main() -> None:
    clients = int(sys.argv[1]) if len(sys.argv) > 1 else 12
    minutes = float(sys.argv[2]) if len(sys.argv) > 2 else 10.0
    found = soak(clients, 60.0 * minutes)
    print(f"{'act':10} {'count':>6} {'p50':>7} {'p95':>7} {'p99':>7}")
    for act, row in found["seconds"].items():
        print(f"{act:10} {row[0]:6d} {row[1]:7.3f} {row[2]:7.3f} {row[3]:7.3f}"
              f"{'  waits on purpose' if act in WAITED else ''}")
    print(f"{len(found['errors'])} errors, {found['tracebacks']} tracebacks in the log")
    for error in found["errors"][:10]:
        print(error)
    if found["tracebacks"]:
        print(found["log"][-4000:])


if __name__ == "__main__":
    main()
