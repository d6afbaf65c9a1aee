"""Speed in the page: from an input event to painted pixels, and pictures under a moving hand.

`python -m tools.page_bench` measures it alone; `make bench` with all else.
"""

from __future__ import annotations

import json
import os
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from collections.abc import Callable
from typing import Any, Self

import numpy as np

from tools.processes import free_port

RUNS = 5
FLAGS = ["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync"]
OPENED_S = 5.0  # in which a window's day ribbon is worked out
DRAG_S, TURNS = 6.0, 3.0  # of a drag; ways to or fro in it
# What is dragged: selected, where the hand takes hold, how far it goes over that one's own size.
DRAGS: dict[str, tuple[str, str, tuple[float, float]]] = {
    "hour": ("sun", "#strip", (0.25, 0.0)),
    "band's height": ("sun", '.band[data-layer="heaps"] .body', (0.0, -1.2)),
    "cover": ("layer:heaps", '[data-path="layers[heaps].cover_oktas"] .range', (0.3, 0.0)),
    "density": ("layer:heaps", '[data-path="layers[heaps].body.density_per_km"] .range',
                (0.3, 0.0)),
    "heading": ("camera", '[data-path="camera.heading_deg"] .range', (0.3, 0.0)),
    "lens": ("camera", '[data-path="camera.lens_mm"] .range', (0.3, 0.0)),
    "clip's marker": ("sun", "#film", (0.25, 0.0)),
    "a hero": ("hero:tower:tower", '.hero-mark.chosen [data-grip="foot"]', (9.0, 0.0)),
}
ELSEWHERE = {"a hero": "hills-in-september"}  # than on the fair-weather sky
COUNT = """() => {
  window.pictures = 0;
  new MutationObserver(() => (window.pictures += 1)).observe(
    document.getElementById('picture'), { attributes: true, attributeFilter: ['data-serial'] });
}"""


class Page:
    """The application with a browser on the fair-weather sky."""

    def __init__(self, home: str) -> None:
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        start = time.perf_counter()
        self.process = subprocess.Popen(
            [sys.executable, "-m", "dovrek.cli", "demo", "--home", home, "--port",
             str(self.port)], stderr=subprocess.DEVNULL, start_new_session=True)
        while True:
            try:
                urllib.request.urlopen(self.url, timeout=5).read()
                break
            except OSError:
                time.sleep(0.02)
        self.cold_start = time.perf_counter() - start

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        os.killpg(self.process.pid, 15)
        self.process.wait()


SETTLED = "() => document.getElementById('quality').textContent.startsWith('proof')"
# From the input event to the first painted picture of a newer revision.
MEASURE = """async (spec) => {
  const canvas = document.getElementById('picture');
  const before = Number(canvas.dataset.revision);
  const row = document.querySelector(`[data-path="${spec.path}"]`);
  const range = row.querySelector('.range');
  range.dispatchEvent(new PointerEvent('pointerdown', { bubbles: true }));
  const start = performance.now();
  range.value = Number(range.value) + spec.by;
  range.dispatchEvent(new Event('input', { bubbles: true }));
  for (;;) {
    await new Promise((done) => setTimeout(done, 2));
    if (Number(canvas.dataset.revision) > before) {
      return [(Number(canvas.dataset.painted) - start) / 1000, canvas.width, canvas.height];
    }
    if (performance.now() - start > 20000) return [20, 0, 0];
  }
}"""
CHANGES = {
    "shape of a layer": ("layer:heaps", "layers[heaps].body.fray", 60.0, 0.35),
    "camera": ("camera", "camera.heading_deg", 11.0, 0.35),
    "sun": ("sun", "sun.elevation_deg", 12.0, 0.35),
    "exposure": ("film", "film.exposure_ev", 9.0, 0.05),
}


def settler(page: Any) -> Callable[[], None]:
    """A function that waits until the page's picture is a proof."""
    def settle() -> None:
        end = time.monotonic() + 180
        while not page.evaluate(SETTLED) and time.monotonic() < end:
            time.sleep(0.05)
        time.sleep(1.0)  # the page asks for what a finished picture tells; then it is quiet

    return settle


def in_the_page(say: Callable[[str], None] = lambda text: None) -> dict[str, Any]:
    """Seconds from an input event to painted pixels; cold start; p95 of pages meanwhile; pictures
    a second while a hand drags. `say` is told each as it is found: the whole takes ten minutes."""
    from playwright.sync_api import sync_playwright

    found: dict[str, Any] = {}
    with (tempfile.TemporaryDirectory() as home, Page(home) as served,
          sync_playwright() as playwright):
        found["cold_start"] = served.cold_start
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        found["changes"] = changes(page, served.url, say)
        found["pages_p95"] = _pages_while_rendering(served.url, page)
        say(f"pages, p95: {found['pages_p95']:.3f} s")
        found["drags"] = drags(browser, page, served.url, say)
        browser.close()
    return found


def changes(page: Any, url: str, say: Callable[[str], None]) -> dict[str, dict[str, Any]]:
    """Seconds from an input event to the first painted picture, medians, by what is changed."""
    found: dict[str, dict[str, Any]] = {}
    settle = settler(page)
    page.goto(f"{url}/skies/fair-weather-noon/?selected=sun")
    settle()
    page.locator("#c-sun-mode").select_option("free")
    time.sleep(1.0)
    settle()
    for name, (selected, path, by, _) in CHANGES.items():
        page.goto(f"{url}/skies/fair-weather-noon/?selected={selected}")
        settle()
        times, size = [], [0, 0]
        for run in range(RUNS + 1):
            # Each run goes to a value that was never shown: nothing lies ready in a cache.
            seconds, *size = page.evaluate(MEASURE, {"path": path, "by": by})
            if run:  # the first one warms up
                times.append(seconds)
            settle()
        found[name] = {"seconds": statistics.median(times), "size": size}
        say(f"{name}: {found[name]['seconds']:.3f} s")
    page.goto(f"{url}/skies/fair-weather-noon/?selected=sun")
    settle()
    page.locator("#c-sun-mode").select_option("clock")
    return found


def drags(browser: Any, page: Any, url: str,
          say: Callable[[str], None]) -> dict[str, list[float]]:
    """Pictures a second by what is dragged, with one window and with two on the same sky."""
    found: dict[str, list[float]] = {}
    other: Any = None
    for windows in (1, 2):
        if windows == 2:
            other = browser.new_page(viewport={"width": 1280, "height": 800})
            other.goto(f"{url}/skies/fair-weather-noon/")
            settler(other)()  # what a sky asks for when it is opened is not the drag's
            time.sleep(OPENED_S)
        for kind, (selected, place, reach) in DRAGS.items():
            page.bring_to_front()
            slug = ELSEWHERE.get(kind, "fair-weather-noon")
            page.goto(f"{url}/skies/{slug}/?selected={selected}")
            settler(page)()
            if kind == "clip's marker":
                page.keyboard.press("m")
                time.sleep(1.0)
                settler(page)()
            found.setdefault(kind, []).append(_dragged(page, place, reach))
            say(f"{kind}, {windows}: {found[kind][-1]:.1f}/s")
    other.close()
    return found


def _dragged(page: Any, place: str, reach: tuple[float, float]) -> float:
    """Pictures a second that reach the canvas while a hand goes to and fro from the middle of what
    is at `place`, up to `reach` of its width and height away."""
    page.locator(place).first.scroll_into_view_if_needed()
    box = page.locator(place).first.bounding_box()
    x, y = box["x"] + 0.5 * box["width"], box["y"] + 0.5 * box["height"]
    page.evaluate(COUNT)
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 1.0, y)
    start = time.monotonic()
    while (gone := time.monotonic() - start) < DRAG_S:
        share = 1.0 - abs((gone / DRAG_S * TURNS) % 2.0 - 1.0)
        page.mouse.move(x + share * reach[0] * box["width"], y + share * reach[1] * box["height"])
        time.sleep(0.012)
    count = int(page.evaluate("window.pictures"))
    page.mouse.up()
    return count / DRAG_S


def _pages_while_rendering(url: str, page: Any) -> float:
    """95th percentile of page answers while proofs are rendered one after another."""
    times: list[float] = []
    stop = threading.Event()

    def ask() -> None:
        paths = ("/", "/prints", "/skies/last-light/panels", "/skies/fair-weather-noon/")
        while not stop.is_set():
            for path in paths:
                start = time.perf_counter()
                urllib.request.urlopen(url + path).read()
                times.append(time.perf_counter() - start)
                time.sleep(0.01)

    page.goto(f"{url}/skies/fair-weather-noon/?selected=layer:heaps")
    thread = threading.Thread(target=ask)
    thread.start()
    for run in range(6):
        page.evaluate(MEASURE, {"path": "layers[heaps].body.fray", "by": 80 * (-1) ** run})
        time.sleep(1.0)
    stop.set()
    thread.join()
    return float(np.percentile(times, 95))


if __name__ == "__main__":
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))  # and the server goes too
    print(json.dumps(in_the_page(lambda text: print(text, file=sys.stderr, flush=True)), indent=1))
