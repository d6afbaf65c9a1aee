"""Power, disk and clock taken away at work: python -m tools.faults [kills] [seed].

Kills server, engine, workers and scheduler by force at moments of chance while skies change and
prints run; fills a small disk; makes the home read-only. After each, what the server had said is
stored is there, and every print ends as a whole file or in words.
"""

from __future__ import annotations

import contextlib
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from PIL import Image

from tools.processes import free_port
from tools.soak import Server, children_by_parent

SLUGS = ("fair-weather-noon", "last-light")
QUICK = ("--refine", "sketch")  # nothing here is about live pictures
CHANGES, PATIENCE_S = 6, 600.0  # kernels may compile first, in several processes at once


class Lost(AssertionError):
    """Stored work that is gone, or a print that did not end right."""


class Window:
    """One window that writes down what the server says it has stored."""

    def __init__(self, server: Server) -> None:
        self.server, self.token, self.cookie = server, "", ""
        self.stored: dict[str, int] = {}  # the seed that was answered for, by sky
        self.sent: dict[str, int] = {}

    def ask(self, path: str, data: Any = None, form: str = "") -> bytes:
        body = form.encode() if form else json.dumps(data).encode() if data is not None else None
        kind = "application/x-www-form-urlencoded" if form else "application/json"
        request = urllib.request.Request(self.server.url + path, body, {
            "X-Token": self.token, "Cookie": self.cookie, "Content-Type": kind})
        with urllib.request.urlopen(request, timeout=20) as answer:
            if given := answer.headers.get("Set-Cookie"):
                self.cookie = given.split(";")[0]
            found: bytes = answer.read()
            return found

    def enter(self) -> None:
        found = re.search(rb'data-token="([^"]+)"', self.ask("/"))
        assert found is not None
        self.token = found[1].decode()

    def change(self, slug: str) -> None:
        """One change, of which is known afterwards whether it was answered for."""
        page = re.search(rb'data-revision="(\d+)"', self.ask(f"/skies/{slug}/"))
        assert page is not None
        seed = self.sent[slug] = self.sent.get(slug, 100) + 1
        self.ask(f"/skies/{slug}/change", {"base": int(page[1]), "values": {"seed": seed}})
        self.stored[slug] = seed

    def order(self, slug: str, width: int = 640) -> None:
        self.ask(f"/skies/{slug}/prints",
                 form=f"width={width}&height={width * 9 // 16}&quality=draft")

    def check(self) -> None:
        """All that was answered for is there. Raises Lost."""
        for slug, seed in self.stored.items():
            found = json.loads(self.ask(f"/skies/{slug}/export.json"))["seed"]
            if not seed <= found <= self.sent[slug]:
                raise Lost(f"{slug}: stored {seed}, found {found}")

    def states(self) -> dict[int, str]:
        """State of every print by its number."""
        text = self.ask("/prints/queue").decode()
        return {int(n): s for n, s in re.findall(r'data-print="(\d+)" data-state="(\w+)"', text)}


def whole(home: Path, window: Window, mend: Callable[[], None] = lambda: None) -> str:
    """That every print has ended, each done one with its files. Raises Lost."""
    end = time.monotonic() + PATIENCE_S
    while any(s in ("waiting", "working") for s in window.states().values()):
        if time.monotonic() > end:
            raise Lost(f"prints that do not end: {window.states()}")
        mend()
        time.sleep(0.5)
    states, folder = window.states(), home / "prints"
    for number, state in states.items():
        files = sorted(p.suffix for p in folder.glob(f"*-{number}.*"))
        if files != ([".json", ".png"] if state == "done" else []):
            raise Lost(f"print {number} is {state} with files {files}")
    for picture in folder.glob("*.png"):
        Image.open(picture).load()
        json.loads(picture.with_suffix(".json").read_text())
    left = [p.name for p in folder.iterdir() if p.name.startswith(".part-")]
    if left:
        raise Lost(f"halves of files: {left}")
    return ", ".join(f"{list(states.values()).count(s)} {s}" for s in sorted(set(states.values())))


# -- kills --------------------------------------------------------------------------------


class Farm:
    """A scheduler and a worker of its own process each, at an address that stays."""

    def __init__(self, folder: Path) -> None:
        self.port = free_port()
        self.address = f"tcp://127.0.0.1:{self.port}"
        self.folder = folder
        self.parts: dict[str, subprocess.Popen[bytes]] = {}

    def mend(self) -> None:
        """Start what is not there."""
        dask = Path(sys.executable).with_name("dask")
        commands = {
            "scheduler": [str(dask), "scheduler", "--host", "127.0.0.1", "--port", str(self.port),
                          "--no-dashboard"],
            "worker": [str(dask), "worker", self.address, "--nthreads", "2", "--no-dashboard",
                       "--no-nanny", "--local-directory", str(self.folder)]}
        for name, command in commands.items():
            part = self.parts.get(name)
            if part is None or part.poll() is not None:
                self.parts[name] = subprocess.Popen(
                    command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def end(self) -> None:
        for part in self.parts.values():
            part.kill()
            part.wait()


def targets(server: Server, farm: Farm | None) -> dict[str, list[int]]:
    """Processes by what they are."""
    assert server.process is not None
    below = children_by_parent()
    engines = [n for n in below[server.process.pid] if "printer" in command_of(n)]
    workers, todo = [], [n for e in engines for n in below[e]]
    while todo:
        workers.append(todo.pop())
        todo += below[workers[-1]]
    found = {"server": [server.process.pid], "engine": engines, "worker": workers}
    if farm is not None:
        found |= {name: [p.pid] for name, p in farm.parts.items() if p.poll() is None}
    return {name: numbers for name, numbers in found.items() if numbers}


def command_of(number: int) -> str:
    try:
        return Path(f"/proc/{number}/cmdline").read_text().replace("\0", " ")
    except OSError:
        return ""


def laid(home: Path, like: Path | None) -> Path:
    """A home to begin with: a copy of another, or none yet."""
    if like is not None:
        shutil.copytree(like, home)
    return home


def kills(count: int, seed: int, remote: bool = False, like: Path | None = None,
          slugs: Sequence[str] = SLUGS) -> str:
    """Processes killed by force under load, while these skies of a new home, or of one `like`
    another, change and are printed. Raises Lost."""
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory() as folder:
        farm = Farm(Path(folder)) if remote else None
        if farm is not None:
            farm.mend()
        server = Server(laid(Path(folder) / "home", like), *QUICK,
                        *(["--scheduler", farm.address] if farm else []))
        server.start()
        window, said = Window(server), dict.fromkeys(("server", "engine", "worker", "scheduler"), 0)
        try:
            window.enter()
            for _ in range(count):
                if list(window.states().values()).count("waiting") < 1:
                    window.order(rng.choice(slugs))
                end = time.monotonic() + rng.uniform(0.3, 3.0)
                found = targets(server, farm)
                name = rng.choice(sorted(found))
                while time.monotonic() < end:
                    window.change(rng.choice(slugs))
                for number in found[name]:
                    try:
                        os.kill(number, signal.SIGKILL)
                    except ProcessLookupError:
                        continue
                    said[name] += 1
                with contextlib.suppress(OSError):  # the server may be what was killed
                    window.change(rng.choice(slugs))
                if farm is not None:
                    farm.mend()
                assert server.process is not None
                time.sleep(0.05)
                if server.process.poll() is not None:
                    server.start()
                window.check()
            ended = whole(server.home, window, farm.mend if farm else lambda: None)
            window.check()
        finally:
            server.stop()
            if farm is not None:
                farm.end()
        left = [n for n in Path("/proc").glob("[0-9]*") if str(server.home) in command_of(
            int(n.name))]
        if left:
            raise Lost(f"processes that outlived their server: {left}")
    killed = ", ".join(f"{n} × {name}" for name, n in said.items() if n)
    return f"{count} kills ({killed}): all stored work there; prints {ended}"


def queue(count: int = 30) -> str:
    """Many prints in the queue while their server is told to end, started, killed and started
    again. Raises Lost."""
    with tempfile.TemporaryDirectory() as folder:
        server = Server(Path(folder) / "home", *QUICK)
        server.start()
        window = Window(server)
        try:
            window.enter()
            for k in range(count):
                window.order(SLUGS[k % 2], width=64 + 16 * k)
            for how, share in ((signal.SIGTERM, 0.1), (signal.SIGKILL, 0.4)):
                end = time.monotonic() + PATIENCE_S
                while list(window.states().values()).count("done") < share * count:
                    if time.monotonic() > end:
                        raise Lost(f"prints that do not go on: {window.states()}")
                    time.sleep(0.05)
                server.stop(how)
                server.start()
            ended = whole(server.home, window)
            if ended != f"{count} done":
                raise Lost(f"of {count} prints: {ended}")
            widths = sorted(Image.open(p).width for p in (server.home / "prints").glob("*.png"))
            if widths != [64 + 16 * k for k in range(count)]:
                raise Lost(f"prints of other orders: {widths}")
        finally:
            server.stop()
    return f"{count} prints queued, their server ended and killed: nothing lost, all done"


# -- disk ---------------------------------------------------------------------------------


@contextmanager
def small_disk(megabytes: int) -> Iterator[Path]:
    """A file system of its own in memory. Raises OSError where that is not allowed."""
    with tempfile.TemporaryDirectory() as folder:
        done = subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "tmpfs", folder],
                              capture_output=True, check=False)
        if done.returncode:
            raise OSError(done.stderr.decode().strip() or "mounting is not allowed here")
        try:
            yield Path(folder)
        finally:
            subprocess.run(["umount", "-l", folder], check=False)


def full_disk() -> str:
    """A disk that fills while skies change and a print runs. Raises Lost."""
    with small_disk(80) as folder:
        server = Server(folder / "home", *QUICK)
        server.start()
        window = Window(server)
        try:
            window.enter()
            window.change(SLUGS[0])
            window.order(SLUGS[0], 960)
            time.sleep(3.0)
            filler = folder / "filler"
            with filler.open("wb") as file:
                try:
                    while True:
                        file.write(bytes(2**16))
                        file.flush()
                except OSError:
                    pass
            refused = 0
            for _ in range(CHANGES):
                try:
                    window.change(SLUGS[0])
                except urllib.error.HTTPError:
                    refused += 1
            time.sleep(6.0)
            state = window.states()[1]  # its row cannot be written either, or it ended in words
            filler.unlink()
            window.check()
            window.change(SLUGS[0])
            if state == "failed":
                window.ask("/prints/1/retry", form="x=1")
            ended = whole(server.home, window)
            server.stop(signal.SIGKILL)
            server.start()
            window.check()
        finally:
            server.stop()
    return f"full disk: {refused} of {CHANGES} changes refused in words, the print {state}, " \
           f"after retry {ended}; nothing lost"


def read_only(like: Path | None = None, slug: str = SLUGS[0]) -> str:
    """A home that can be read but not written for a while. Raises Lost.

    Root may write anywhere: the server runs without the right to (capabilities(7)).
    """
    less = [] if os.geteuid() else ["setpriv", "--bounding-set=-dac_override,-dac_read_search",
                                    "--inh-caps=-all", "--"]
    if less and subprocess.run([*less, "true"], capture_output=True, check=False).returncode:
        raise OSError("setpriv is not allowed here")
    with tempfile.TemporaryDirectory() as folder:
        server = Server(laid(Path(folder) / "home", like), *QUICK, before=less)
        server.start()
        window = Window(server)
        locked = [server.home, server.home / "prints", *server.home.glob("dovrek.sqlite*")]
        try:
            window.enter()
            window.change(slug)
            for path in locked:
                path.chmod(0o555 if path.is_dir() else 0o444)
            refused = 0
            for _ in range(CHANGES):
                try:
                    window.change(slug)
                except urllib.error.HTTPError as error:
                    refused += error.code in (503, 507)
            pages = [window.ask(path) for path in ("/", "/prints", f"/skies/{slug}/")]
            for path in locked:
                path.chmod(0o755 if path.is_dir() else 0o644)
            if not refused:
                raise Lost("a read-only home took changes")
            window.check()
            window.change(slug)
            window.check()
        finally:
            server.stop()
    return f"read-only: {refused} of {CHANGES} changes refused, {len(pages)} pages shown all the " \
           "while; nothing lost"


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    print(kills(count // 2, seed), flush=True)
    print("with a scheduler of its own:", kills(count - count // 2, seed + 1, remote=True),
          flush=True)
    for fault in (queue, full_disk, read_only):
        try:
            print(fault(), flush=True)
        except OSError as error:
            print(f"{fault.__name__}: not tried ({error})")


if __name__ == "__main__":
    main()
