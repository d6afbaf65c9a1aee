"""Measure speed on this machine: `make bench` prints tables and writes bench.json.

Everything is measured in one run on two threads, medians of five, with the plain trilinear
look-up rate of the same machine beside it.
"""

from __future__ import annotations

import json
import os
import resource
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table

from dovrek.core.kernels import solver
from dovrek.core.march import ray_depth  # noqa: F401  (compiles with the rest)
from dovrek.core.noise import noise_volumes, turned_noise
from dovrek.core.prepare import FINE
from dovrek.core.stages import Cancel, StageCache
from dovrek.core.studio import Studio, Wish
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_text
from dovrek.store.demo import demo_texts

RUNS = 5
SIZES = {"draft": (480, 270), "proof": (960, 540), "final": (1920, 1080)}
WANTED = {"draft": None, "proof": 3.0, "final": 40.0, "build": 4.0}
console = Console()


@solver
def _look_up(volume: Any, count: int, stride: float) -> float:
    total = 0.0
    for k in range(count):
        total += turned_noise(volume, stride * k, 0.31 * stride * k, 0.17 * stride * k, 620.0, 0)
    return total


def lookup_rate() -> dict[str, float]:
    """Millions of trilinear look-ups a second and core, coherent and scattered."""
    volume = noise_volumes()[0]
    found = {}
    for name, stride in (("coherent", 1.0), ("scattered", 3571.0)):
        _look_up(volume, 10, stride)
        times = []
        for _ in range(RUNS):
            start = time.perf_counter()
            _look_up(volume, 2_000_000, stride)
            times.append(time.perf_counter() - start)
        found[name] = 2.0 / statistics.median(times)
    return found


def demo_sky(name: str = "fair-weather-noon") -> Sky:
    return sky_from_text(demo_texts()[name])


def renders(studio: Studio) -> dict[str, Any]:
    """Seconds of a march at each quality, and a whole build for three layers with its stages."""
    sky = demo_sky()
    studio.render(sky, Wish(64, 36, "draft"))
    found: dict[str, Any] = {}
    for quality, (width, height) in SIZES.items():
        times = [studio.render(sky, Wish(width, height, quality)).seconds["march"]
                 for _ in range(RUNS if quality != "final" else 3)]
        found[quality] = statistics.median(times)
    builds, stages = [], []
    for run in range(RUNS):
        kept = studio.preparer.cache
        fresh = StageCache()
        for stage in ("sun table", "scattering"):  # the air is not a part of the layers' build
            fresh._stages[stage] = kept._stages[stage]
        studio.preparer.cache = fresh
        start = time.perf_counter()
        studio.preparer.scene(with_values(sky, {"seed": 100 + run}), FINE, Cancel())
        builds.append(time.perf_counter() - start)
        stages.append(dict(fresh.seconds))
        studio.preparer.cache = kept
    found["build"] = statistics.median(builds)
    found["stages"] = {k: statistics.median(s[k] for s in stages) for k in stages[0]}
    return found


class Page:
    """The application with a browser on the fair-weather sky."""

    def __init__(self, home: str) -> None:
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
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

    def close(self) -> None:
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
    "shape of a layer": ("layer:heaps", "layers[heaps].body.fray", 30.0, 0.5),
    "camera": ("camera", "camera.heading_deg", 11.0, 0.5),
    "sun": ("sun", "sun.elevation_deg", 12.0, 0.5),
    "exposure": ("film", "film.exposure_ev", 9.0, 0.05),
}


def in_the_page() -> dict[str, Any]:
    """Seconds from an input event to painted pixels; cold start; p95 of pages meanwhile."""
    from playwright.sync_api import sync_playwright

    found: dict[str, Any] = {"changes": {}}
    with tempfile.TemporaryDirectory() as home, sync_playwright() as playwright:
        served = Page(home)
        found["cold_start"] = served.cold_start
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=[
            "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})

        def settle() -> None:
            end = time.monotonic() + 180
            while not page.evaluate(SETTLED) and time.monotonic() < end:
                time.sleep(0.05)
            time.sleep(0.2)

        page.goto(f"{served.url}/skies/fair-weather-noon/?selected=sun")
        settle()
        page.locator("#c-sun-mode").select_option("free")
        time.sleep(1.0)
        settle()
        for name, (selected, path, by, _) in CHANGES.items():
            page.goto(f"{served.url}/skies/fair-weather-noon/?selected={selected}")
            settle()
            times, size = [], [0, 0]
            for run in range(RUNS + 1):
                seconds, *size = page.evaluate(MEASURE, {"path": path,
                                                         "by": by * (1 if run % 2 else -1)})
                if run:  # the first one warms up
                    times.append(seconds)
                settle()
            found["changes"][name] = {"seconds": statistics.median(times), "size": size}
        found["pages_p95"] = _pages_while_rendering(served.url, page)
        browser.close()
        served.close()
    return found


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
        page.evaluate(MEASURE, {"path": "layers[heaps].body.fray", "by": 40 * (-1) ** run})
        time.sleep(1.0)
    stop.set()
    thread.join()
    return float(np.percentile(times, 95))


def peak_memory() -> float:
    """Megabytes of a process that renders the final alone."""
    code = ("import resource;from dovrek.core.studio import Studio,Wish;"
            "from dovrek.store.demo import demo_texts;from dovrek.sky.reading import sky_from_text;"
            "Studio(2).render(sky_from_text(demo_texts()['fair-weather-noon']),"
            "Wish(1920,1080,'final'));"
            "print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss/1024)")
    return float(subprocess.check_output([sys.executable, "-c", code]).split()[-1])


def show(title: str, rows: list[tuple[str, str, str]]) -> None:
    table = Table(title=title, title_justify="left")
    for head in ("what", "measured", "wanted"):
        table.add_column(head)
    for row in rows:
        table.add_row(*row)
    console.print(table)


def main() -> None:
    """Measure, print, write."""
    result: dict[str, Any] = {"threads": 2, "lookups_m_per_s": lookup_rate()}
    studio = Studio(2)
    result |= renders(studio)
    studio.close()
    result["peak_memory_mb"] = peak_memory()
    result |= in_the_page()
    result["own_peak_mb"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    rate = result["lookups_m_per_s"]
    show("Renders of the fair-weather demo sky, two threads", [
        (f"{q} {w}×{h}, march", f"{result[q]:.2f} s",
         f"{WANTED[q]:.0f} s" if WANTED[q] else "") for q, (w, h) in SIZES.items()]
        + [("build of three layers", f"{result['build']:.2f} s", "4 s"),
           ("peak memory of the final", f"{result['peak_memory_mb']:.0f} MB", "1500 MB"),
           ("look-ups, coherent", f"{rate['coherent']:.0f} M/s and core", ""),
           ("look-ups, scattered", f"{rate['scattered']:.0f} M/s and core", "")])
    total = sum(v for k, v in result["stages"].items() if k not in ("scene", "layer"))
    show("Shares of the build (threads overlap)", [
        (k, f"{v:.2f} s", f"{100 * v / total:.0f} %") for k, v in sorted(
            result["stages"].items(), key=lambda item: -item[1])])
    show("From an input event in the page to painted pixels", [
        (k, f"{v['seconds'] * 1e3:.0f} ms at {v['size'][0]}×{v['size'][1]}",
         f"{CHANGES[k][3] * 1e3:.0f} ms") for k, v in result["changes"].items()]
        + [("cold start to first page", f"{result['cold_start']:.2f} s", "3 s"),
           ("pages while rendering, p95", f"{result['pages_p95'] * 1e3:.0f} ms", "100 ms")])
    Path("bench.json").write_text(json.dumps(result, indent=1))


if __name__ == "__main__":
    main()
