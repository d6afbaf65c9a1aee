"""The application in Debian's Chromium: what the interface tests share."""

from __future__ import annotations

import json
import os
import signal
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
from playwright.sync_api import Locator, Page, expect

from tools import soak

CHROMIUM = Path("/usr/bin/chromium")
FLAGS = ["--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync"]
WIDTH = 320  # of the live picture: the least there is
SHOWN = {"sketch": "sketch 240 × 135", "proof": f"proof {WIDTH} × {WIDTH * 9 // 16}"}
PATIENCE = 240_000  # a new machine compiles its kernels while the first picture waits


class Server(soak.Server):
    """The application as `dovrek demo` starts it, killed as a whole. Its pictures are refined no
    further than a test needs: fine light for every state a test passes takes most of its time."""

    width = WIDTH

    def __init__(self, home: Path, refine: str) -> None:
        super().__init__(home, "--refine", refine)
        self.refine = refine

    def kill(self) -> None:
        assert self.process is not None
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def document(self, slug: str) -> dict[str, Any]:
        with urllib.request.urlopen(f"{self.url}/skies/{slug}/export.json") as answer:
            found: dict[str, Any] = json.load(answer)
        return found


def compose(page: Page, server: Server, slug: str, selected: str = "") -> None:
    page.goto(f"{server.url}/skies/{slug}/?selected={selected}", timeout=PATIENCE)
    settle(page, server)


def arrive(page: Page, server: Server, slug: str, selected: str = "") -> None:
    """Open the composer and wait for the first picture only."""
    page.goto(f"{server.url}/skies/{slug}/?selected={selected}", timeout=PATIENCE)
    expect(page.locator("#picture[data-revision]")).to_be_visible(timeout=PATIENCE)


def settle(page: Page, server: Server) -> None:
    """Wait until the picture shows the stored sky, as far as it is refined."""
    expect(page.locator("#quality")).to_have_text(SHOWN[server.refine], timeout=PATIENCE)


def serial(page: Page) -> int:
    return int(page.locator("#picture").get_attribute("data-serial") or 0)


def mean_colour(page: Page) -> np.ndarray:
    """Mean of the picture's upper half, summed in the page: a list of its pixels takes seconds."""
    return np.array(page.evaluate("""() => {
        const c = document.getElementById('picture');
        const { data } = c.getContext('2d').getImageData(0, 0, c.width, c.height / 2);
        const sums = [0, 0, 0];
        for (let k = 0; k < data.length; k += 4) {
            for (let j = 0; j < 3; j += 1) sums[j] += data[k + j];
        }
        return sums.map((sum) => sum / (data.length / 4));
    }"""))


def drag(page: Page, start: tuple[float, float], end: tuple[float, float]) -> None:
    page.mouse.move(*start)
    page.mouse.down()
    for k in range(1, 7):
        page.mouse.move(start[0] + (end[0] - start[0]) * k / 6,
                        start[1] + (end[1] - start[1]) * k / 6)
        time.sleep(0.04)
    page.mouse.up()
    time.sleep(0.5)  # the last value is on its way: those before it are stored, too


def middle_of(at: Locator) -> tuple[float, float]:
    """Middle of what is shown on the page, pixels, once it is there."""
    box = until(at.bounding_box, bool)
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def layer_of(server: Server, slug: str, layer_id: str) -> dict[str, Any]:
    return next(x for x in server.document(slug)["layers"] if x["id"] == layer_id)


def until(found: Any, wanted: Any, seconds: float = 20.0) -> Any:
    """Wait until `found()` satisfies `wanted` and return it; fails when it does not in time."""
    end = time.monotonic() + seconds
    while True:
        value = found()
        if wanted(value):
            return value
        assert time.monotonic() < end, f"still {value!r} after {seconds:g} s"
        time.sleep(0.1)
