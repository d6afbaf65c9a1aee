"""How long judging takes in the page: test strips, contact sheets, a slider's first pixels, and
how near a suggestion comes to skies that are known. python -m tools.judging [suggest | unseen |
drawn | vivid | styled]."""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageEnhance

from dovrek.core.colour.film import develop
from dovrek.core.colour.spectrum import LUMINANCE_RGB
from dovrek.core.photo.clear_fit import Framing
from dovrek.core.photo.likeness import horizon_of, linear
from dovrek.core.photo.suggest import suggest
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.reading import sky_from_data

# One control of each kind: shape, light, air.
STRIPS = {"cover of heaps": ("layer:heaps", "layers[heaps].cover_oktas"),
          "fray of heaps": ("layer:heaps", "layers[heaps].body.fray"),
          "lens": ("camera", "camera.lens_mm"), "haze": ("air", "air.haze"),
          "ozone": ("air", "air.ozone_du")}
SLIDES = 20
PAUSE_S = 0.7  # between two moves of a slider: the hand looks
PITCH, LENS = 14.0, 26.0
# Known skies: sun height and bearing (camera north), haze, layer. Made up for this check.
KNOWN: list[tuple[float, float, float, dict[str, Any] | None]] = [
    (50, 120, 0.1, None), (25, 200, 0.2, {"genus": "cumulus", "cover_oktas": 2.5, "seed": 3}),
    (8, 60, 0.1, {"genus": "cumulus", "cover_oktas": 3, "seed": 7}),
    (35, 90, 0.07, {"genus": "altocumulus", "cover_oktas": 4, "seed": 5}),
    (60, 180, 0.15, {"genus": "cirrus", "cover_oktas": 3, "seed": 2}),
    (3, 300, 0.12, {"genus": "cirrus", "cover_oktas": 2, "seed": 9}),
    (40, 150, 0.3, {"genus": "stratocumulus", "cover_oktas": 5, "seed": 4}),
    (15, 330, 0.1, {"genus": "cumulus", "cover_oktas": 1.5, "seed": 11}),
    (30, 100, 0.1, {"genus": "stratus", "cover_oktas": 8, "seed": 1}),
    (45, 240, 0.05, {"genus": "cumulus", "cover_oktas": 4, "seed": 21})]
# Ten more, which hardly any weight of the search was chosen on.
UNSEEN: list[tuple[float, float, float, dict[str, Any] | None]] = [
    (32, 250, 0.12, {"genus": "cumulus", "cover_oktas": 3.5, "seed": 41}),
    (12, 100, 0.15, None), (55, 40, 0.2, {"genus": "altocumulus", "cover_oktas": 3, "seed": 42}),
    (20, 160, 0.08, {"genus": "stratocumulus", "cover_oktas": 4, "seed": 43}),
    (6, 320, 0.1, {"genus": "altocumulus", "cover_oktas": 3.5, "seed": 44}),
    (48, 120, 0.1, {"genus": "cirrus", "cover_oktas": 4, "seed": 45}),
    (28, 70, 0.3, {"genus": "cumulus", "cover_oktas": 5, "seed": 46}),
    (63, 290, 0.06, {"genus": "cumulus", "cover_oktas": 2, "seed": 47}),
    (18, 200, 0.2, {"genus": "cirrus", "cover_oktas": 2.5, "seed": 48}),
    (38, 20, 0.15, {"genus": "stratus", "cover_oktas": 8, "seed": 49})]
# Ten drawn at random after the last weight was set.
DRAWN: list[tuple[float, float, float, dict[str, Any] | None]] = [
    (58.3, 98, 0.1, {"genus": "cumulus", "cover_oktas": 2.3, "seed": 5}),
    (63.9, 49, 0.18, {"genus": "stratocumulus", "cover_oktas": 3.9, "seed": 244}),
    (52.9, 259, 0.07, {"genus": "altocumulus", "cover_oktas": 4.0, "seed": 334}),
    (30.2, 177, 0.13, {"genus": "cirrus", "cover_oktas": 3.1, "seed": 655}),
    (36.3, 30, 0.1, None),
    (18.8, 165, 0.12, {"genus": "cumulus", "cover_oktas": 2.0, "seed": 591}),
    (56.9, 42, 0.1, {"genus": "altocumulus", "cover_oktas": 3.6, "seed": 632}),
    (55.2, 188, 0.11, {"genus": "stratus", "cover_oktas": 8, "seed": 840}),
    (2.9, 206, 0.13, {"genus": "cirrus", "cover_oktas": 4.3, "seed": 488}),
    (9.2, 283, 0.15, {"genus": "stratocumulus", "cover_oktas": 3.7, "seed": 518})]


def in_the_page() -> dict[str, Any]:
    """Seconds in Chromium on the noon demo, kernels warm."""
    from playwright.sync_api import sync_playwright

    from tools.page_bench import MEASURE, Page, settler

    found: dict[str, Any] = {"strips": {}}
    with (tempfile.TemporaryDirectory() as home, Page(home) as served,
          sync_playwright() as playwright):
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=[
            "--no-sandbox", "--disable-gpu", "--no-first-run"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})

        settle = settler(page)

        def frames(count: int) -> tuple[float, float]:
            """Seconds to the first and the last picture of the board just ordered."""
            begun = time.perf_counter()
            shown, first = 0, 0.0
            while shown < count and time.perf_counter() - begun < 120:
                shown = page.evaluate("() => document.querySelectorAll("
                                      "'button.frame img:not([hidden])').length")
                if shown and not first:
                    first = time.perf_counter() - begun
                time.sleep(0.01)
            return first, time.perf_counter() - begun

        page.goto(f"{served.url}/skies/fair-weather-noon/?selected=layer:heaps")
        settle()  # a first strip, not counted, loads what strips alone use
        page.evaluate("() => document.querySelector('[data-strip$=edge_m]').click()")
        frames(5)
        for name, (thing, path) in STRIPS.items():
            page.goto(f"{served.url}/skies/fair-weather-noon/?selected={thing}")
            settle()
            page.evaluate(f"() => document.querySelector('[data-strip=\"{path}\"]').click()")
            first, whole = frames(5)
            found["strips"][name] = {"first": first, "all": whole}
            print(name, found["strips"][name], flush=True)
        for kind in ("seeds", "hours"):
            page.goto(f"{served.url}/skies/fair-weather-noon/?selected=sun")
            settle()
            page.evaluate(f"() => document.querySelector('[data-sheet={kind}]').click()")
            first, whole = frames(12)
            found["strips"][f"sheet of 12 {kind}"] = {"first": first, "all": whole}
            print(kind, first, whole, flush=True)
        for name, thing, path, by in (
                ("cover", "layer:heaps", "layers[heaps].cover_oktas", 32.0),
                ("heading", "camera", "camera.heading_deg", 6.0)):
            page.goto(f"{served.url}/skies/fair-weather-noon/?selected={thing}")
            settle()
            times = []
            for run in range(SLIDES + 1):
                seconds, *_ = page.evaluate(MEASURE, {"path": path, "by": by})
                if run:
                    times.append(seconds)
                time.sleep(PAUSE_S)
            found[f"slider {name}"] = {"median": statistics.median(times),
                                       "p95": float(np.quantile(times, 0.95))}
            print(name, found[f"slider {name}"], flush=True)
        browser.close()
    return found


def vivid(pixels: NDArray[Any]) -> NDArray[Any]:
    """A picture as a camera set to vivid might give it: not by our film."""
    coloured = ImageEnhance.Color(Image.fromarray(pixels)).enhance(1.35)
    return np.asarray(ImageEnhance.Contrast(coloured).enhance(1.2))


def styled(pixels: NDArray[Any]) -> NDArray[Any]:
    """The same by other means: a curve for each channel by a sine, colour by hue and saturation."""
    codes = pixels / 255.0
    curved = codes - 0.3 * np.sin(2.0 * np.pi * codes) / (2.0 * np.pi)
    hue, colour, value = Image.fromarray(np.rint(255.0 * curved).astype(np.uint8)).convert(
        "HSV").split()
    return np.asarray(Image.merge("HSV", (hue, colour.point(lambda v: min(1.15 * v, 255)), value)
                                  ).convert("RGB"))


def suggestions(known: list[tuple[float, float, float, dict[str, Any] | None]],
                grade: Callable[[NDArray[Any]], NDArray[Any]] = lambda pixels: pixels
                ) -> list[dict[str, Any]]:
    """Known skies rendered, fed back as photographs: what was suggested of them."""
    studio = Studio(2)
    camera = {"heading_deg": 0, "pitch_deg": PITCH, "lens_mm": LENS}
    found = []
    for height, bearing, haze, layer in known:
        sky = sky_from_data({
            "dovrek": 1, "camera": camera, "air": {"haze": haze},
            "layers": [layer] if layer else [],
            "sun": {"mode": "free", "elevation_deg": height, "azimuth_deg": bearing}})
        done = studio.render(sky, Wish(480, 270, quality="draft"))
        photograph = grade(np.asarray(develop(done.light, *done.metered[:4]), dtype=np.uint8))
        framing = Framing(sky.camera.fov_h_rad, PITCH, horizon_of(PITCH, sky.camera.fov_v_rad))
        begun = time.perf_counter()
        got = suggest(sky_from_data({"dovrek": 1, "camera": camera}), photograph, framing,
                      Preparer(studio.workers, StageCache()), Cancel())
        seconds = time.perf_counter() - begun
        again = studio.render(got.sky, Wish(480, 270, quality="draft"))
        shown = np.asarray(develop(again.light, *again.metered[:4]), dtype=np.uint8)
        bright = [float((linear(p) @ LUMINANCE_RGB).mean()) for p in (shown, photograph)]
        found.append({
            "sun": (height, round(got.sun_elevation_deg, 1)), "haze": (haze, got.haze),
            "cover": (layer["cover_oktas"] if layer else 0.0, round(got.cover_oktas, 1)),
            "genus": (layer["genus"] if layer else "", got.genus),
            "stops": round(float(np.log2(bright[0] / bright[1])), 2),
            "seconds": round(seconds, 1), "cannot_know": got.cannot_know})
        print(found[-1], flush=True)
    studio.close()
    return found


if __name__ == "__main__":
    if "suggest" in sys.argv:
        suggestions(KNOWN)
    elif "unseen" in sys.argv:
        suggestions(UNSEEN)
    elif "vivid" in sys.argv:
        suggestions(KNOWN, vivid)
    elif "styled" in sys.argv:
        suggestions(KNOWN, styled)
    elif "drawn" in sys.argv:
        suggestions(DRAWN)
    else:
        in_the_page()
