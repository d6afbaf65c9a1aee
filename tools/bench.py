"""Measure speed on this machine: `make bench` prints tables and writes bench.json;
`make bench parts="renders page"` does so for some of it.

Everything is measured in one run on two threads, medians of five, with the plain trilinear
look-up rate of the same machine beside it.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
import warnings
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table

from dovrek.core.compile.kernels import solver
from dovrek.core.compile.noise import BILLOW, noise_volumes, turned_noise
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.march import ray_depth  # noqa: F401  (compiles with the rest)
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_text
from dovrek.store.demo import demo_texts
from tools.accuracy import cases, compare, fast_frame, path_of
from tools.builds import builds, table_of
from tools.lookups import per_ray
from tools.page_bench import CHANGES, in_the_page
from tools.slab import exact, fluxes

RUNS = 5
SIZES = {"draft": (480, 270), "proof": (960, 540), "final": (1920, 1080), "dome": (2048, 1024)}
NAMES = ("fair-weather-noon", "last-light", "high-streaks")
WANTED = {"draft": None, "proof": 1.0, "final": 10.0, "dome": 10.0}
console = Console()


@solver
def _look_up(volume: Any, count: int, stride: float) -> float:
    total = 0.0
    for k in range(count):
        x = stride * k
        total += turned_noise(volume, BILLOW, x, 0.31 * x, 0.17 * x, 620.0, 0, 0.0)
    return total


def lookup_rate(runs: int = RUNS, count: int = 2_000_000) -> dict[str, float]:
    """Millions of trilinear look-ups a second and core, coherent and scattered."""
    volume = noise_volumes()
    found = {}
    for name, stride in (("coherent", 1.0), ("scattered", 3571.0)):
        _look_up(volume, 10, stride)
        times = []
        for _ in range(runs):
            start = time.perf_counter()
            _look_up(volume, count, stride)
            times.append(time.perf_counter() - start)
        found[name] = count / 1e6 / statistics.median(times)
    return found


def demo_sky(name: str = "fair-weather-noon") -> Sky:
    return sky_from_text(demo_texts()[name])


def five_skies() -> list[tuple[str, Sky]]:
    """Three of the demo's and two that no setting was tuned on."""
    others = [c for c in cases() if c.name.startswith(("tall heaps", "cells"))]
    return ([(name, demo_sky(name)) for name in NAMES]
            + [(case.name, case.sky) for case in others])


def renders(studio: Studio) -> dict[str, Any]:
    """Seconds of a march at each quality, medians over five skies, interleaved runs."""
    skies = five_skies()
    for _, sky in skies:
        studio.render(sky, Wish(64, 36, "draft"))
    found: dict[str, Any] = {"by sky": {}}
    for kind, size in SIZES.items():
        wish = (Wish(*size, "final", "dome") if kind == "dome" else Wish(*size, kind))
        times: dict[str, list[float]] = {name: [] for name, _ in skies}
        for _ in range(3 if kind in ("draft", "proof") else 1):
            for name, sky in skies:
                studio.prepare(sky, wish, Cancel())
                times[name].append(studio.render(sky, wish).seconds["march"])
        medians = {name: statistics.median(t) for name, t in times.items()}
        found["by sky"][kind] = medians
        found[kind] = statistics.median(medians.values())
    return found


def lookup_share(studio: Studio, rate: float) -> dict[str, float]:
    """Look-ups a ray (`tools.lookups`), and their rate over the plain coherent one, in a proof of
    the fair-weather sky with no pixel spared: the spared are the cheap ones, and the count knows
    all."""
    sky, size = demo_sky(), SIZES["proof"]
    wish = Wish(*size, "proof", sun_disc=False)
    prepared, _ = studio.prepare(sky, wish, Cancel())
    lens, quality = wish.lens(sky), replace(QUALITIES["proof"], spread=0.0)
    counts = per_ray(prepared, lens, size, quality.step)
    rays: list[int] = []
    start = time.perf_counter()
    render_frame(prepared, lens, size, quality, studio.workers, Cancel(), False, counted=rays)
    seconds = 2 * (time.perf_counter() - start)  # two threads
    lookups = counts["noise"] + counts["shapes"] + counts["light"]
    return counts | {"lookups": lookups, "share": lookups * sum(rays) / seconds / (rate * 1e6)}


def growth(studio: Studio) -> dict[str, float]:
    """Seconds of a proof with 0 to 3 layers of the fair-weather sky, each layer's part of the
    first one's cost, and the cost of four times the pixels."""
    sky = demo_sky()
    found: dict[str, float] = {}
    scenes = []
    for count in range(4):
        some = sky.model_copy(update={"layers": sky.layers[:count]})
        scenes.append((some, studio.prepare(some, Wish(), Cancel())[0]))
    times: list[list[float]] = [[] for _ in range(5)]
    for _ in range(3):
        for count, (some, prepared) in enumerate([*scenes, scenes[3]]):
            size = (960, 540) if count < 4 else (1920, 1080)
            start = time.perf_counter()
            render_frame(prepared, Wish(*size).lens(some), size, QUALITIES["proof"],
                         studio.workers, Cancel())
            times[count].append(time.perf_counter() - start)
    seconds = [statistics.median(t) for t in times]
    for count in range(4):
        found[f"{count} layers"] = seconds[count]
    first = seconds[1] - seconds[0]
    found["second over first"] = (seconds[2] - seconds[1]) / first
    found["third over first"] = (seconds[3] - seconds[2]) / first
    found["four times the pixels"] = seconds[4] / seconds[3]
    return found


def compile_seconds() -> dict[str, float]:
    """Seconds of processor of a first small print in a new process on one core, kernels cold and
    cached, with the same print's own time when everything is ready taken off, and that of the noise
    volumes, which are made once and kept. What else outlasts a process is read by neither."""
    code = ("import time;from dovrek.core.picture.studio import Studio,Wish;"
            "from dovrek.store.demo import demo_texts;from dovrek.sky.reading import sky_from_text;"
            "from dovrek.core.run.cache import StageCache;"
            "t=time.process_time();s=Studio(1);s.preparer.cache=StageCache();"
            "y=sky_from_text(demo_texts()['fair-weather-noon']);w=Wish(96,54,'draft');"
            "s.render(y,w);a=time.process_time()-t;"
            "s.preparer.cache=StageCache();t=time.process_time();s.render(y,w);"
            "b=time.process_time()-t;from dovrek.core.compile.noise import made_volumes;"
            "t=time.process_time();made_volumes();print(a-b,time.process_time()-t)")
    found = {}
    with tempfile.TemporaryDirectory() as cache:
        for name in ("cold", "cached"):
            said = subprocess.check_output(["taskset", "-c", "0", sys.executable, "-c", code],
                                           env={**os.environ, "XDG_CACHE_HOME": cache})
            seconds, noise = (float(number) for number in said.split()[-2:])
            found[name] = seconds - (noise if name == "cold" else 0.0)
    return found


def noise_of(studio: Studio) -> dict[str, tuple[float, float, float]]:
    """Of each sky at 480 × 270: a proof's rms error in stops after a blur of 2 pixels, a final's
    unblurred, and the reference's cost over the proof's at equal noise of 4 × 4 blocks."""
    found = {}
    for name, sky in five_skies():
        wish = Wish(480, 270, "proof", sun_disc=False)
        prepared, _ = studio.prepare(sky, wish, Cancel())
        lens = wish.lens(sky)

        def march(quality: str, first: int = 0, p: Any = prepared, n: Any = lens,
                  **parts: Any) -> tuple[Any, float]:
            start = time.perf_counter()
            light = render_frame(p, n, (480, 270), replace(QUALITIES[quality], **parts),
                                 studio.workers, Cancel(), False, first_sample=first)
            return light[..., 1].astype(np.float64), time.perf_counter() - start

        still, _ = march("final", 40, samples=24, spread=0.0)
        proof, seconds = march("proof")
        final, _ = march("final")
        again, _ = march("proof", 7)
        start = time.perf_counter()
        true = studio.trace(sky, wish, 2)
        slow = time.perf_counter() - start
        fast_noise = float(np.sqrt(np.mean((_blocks(proof) - _blocks(again)) ** 2) / 2))
        slow_noise = float(true.noise or 0.0) * float(true.light[..., 1].mean()) / 4
        gain = slow / seconds * (slow_noise / max(fast_noise, 1e-9)) ** 2
        found[name] = (_stops(_blurred(proof), _blurred(still)), _stops(final, still), gain)
    return found


def _blocks(a: Any) -> Any:
    h, w = a.shape[0] // 4 * 4, a.shape[1] // 4 * 4
    return a[:h, :w].reshape(h // 4, 4, w // 4, 4).mean((1, 3))


def _blurred(a: Any) -> Any:
    for axis in (0, 1):  # a Gaussian of about 2 pixels across
        a = sum(w * np.roll(a, k - 2, axis) for k, w in enumerate((0.06, 0.24, 0.4, 0.24, 0.06)))
    return a


def _stops(a: Any, b: Any) -> float:
    apart = np.log2(np.maximum(a, 1e-9) / np.maximum(b, 1e-9))[4:-4, 4:-4]
    return float(np.sqrt(np.mean(apart**2)))


def accuracy(studio: Studio) -> dict[str, dict[str, float]]:
    """The march against the committed references, scene by scene."""
    found = {}
    for case in cases():
        with np.load(path_of(case)) as kept:
            seen = compare(fast_frame(studio, case), dict(kept), case.whole)
        found[case.name] = {"mean": seen.mean, "rms": seen.rms, "noise": seen.noise,
                            "net": max(seen.rms**2 - seen.noise**2, 0.0) ** 0.5}
    return found


def slabs(studio: Studio) -> dict[str, tuple[float, float]]:
    """Reflectance and transmittance of even slabs over those of discrete ordinates."""
    found = {}
    for sun in (60, 30, 5):
        for depth in (2, 8, 32):
            known, seen = exact(depth, sun), fluxes(studio, depth, sun)
            found[f"depth {depth}, sun {sun}°"] = (seen[0] / known[0], seen[1] / known[1])
    return found


def peak_memory() -> float:
    """Megabytes of a process that renders the final alone. (`getrusage` would count what this
    process held when it started that one.)"""
    code = ("from pathlib import Path;from dovrek.core.picture.studio import Studio,Wish;"
            "from dovrek.store.demo import demo_texts;from dovrek.sky.reading import sky_from_text;"
            "Studio(2).render(sky_from_text(demo_texts()['fair-weather-noon']),"
            "Wish(1920,1080,'final'));"
            "print(Path('/proc/self/status').read_text().split('VmHWM:')[1].split()[0])")
    return float(subprocess.check_output([sys.executable, "-c", code]).split()[-1]) / 1024.0


def show(title: str, rows: list[tuple[str, str, str]],
         heads: tuple[str, str, str] = ("what", "measured", "wanted")) -> None:
    table = Table(title=title, title_justify="left")
    for head in heads:
        table.add_column(head)
    for row in rows:
        table.add_row(*row)
    console.print(table)


PARTS: dict[str, Callable[[Studio, dict[str, Any]], dict[str, Any]]] = {
    "renders": lambda studio, known: renders(studio),
    "share": lambda studio, known: {
        "lookup share": lookup_share(studio, known["lookups_m_per_s"]["coherent"])},
    "builds": lambda studio, known: {"builds": builds(studio)},
    "growth": lambda studio, known: {"growth": growth(studio)},
    "compile": lambda studio, known: {"compile": compile_seconds()},
    "noise": lambda studio, known: {"noise": noise_of(studio)},
    "accuracy": lambda studio, known: {"accuracy": accuracy(studio), "slabs": slabs(studio)},
    "memory": lambda studio, known: {"peak_memory_mb": peak_memory()},
    "page": lambda studio, known: in_the_page(lambda text: console.print(text, style="dim")),
}


def main(parts: list[str]) -> None:
    """Measure these parts (all when none is named), print, write; what is measured is written as
    it comes, for the whole takes half an hour. What other runs wrote stays."""
    if unknown := set(parts) - set(PARTS):
        sys.exit(f"no part of the bench: {', '.join(unknown)}; there are {', '.join(PARTS)}")
    kept = Path("bench.json")
    result: dict[str, Any] = json.loads(kept.read_text()) if parts and kept.exists() else {}
    result |= {"threads": 2, "lookups_m_per_s": lookup_rate()}
    warnings.filterwarnings("ignore", message="Some delta-scaled")
    studio = Studio(2)
    found: dict[str, Any] = {"lookups_m_per_s": result["lookups_m_per_s"]}
    for part in parts or PARTS:
        found |= (more := PARTS[part](studio, result))
        console.print("measured: " + ", ".join(more), style="dim")
        kept.write_text(json.dumps(result | found, indent=1))
    studio.close()
    tables(found)


def tables(found: dict[str, Any]) -> None:
    """Print what was found."""
    rate = found["lookups_m_per_s"]
    show("Plain look-ups", [(name, f"{rate[name]:.0f} M/s and core", "") for name in rate])
    if "by sky" in found:
        show("Marches on two threads, medians of five skies (dome: final)", [
            (f"{q} {w}×{h}", f"{found[q]:.2f} s", f"{WANTED[q]:.1f} s" if WANTED[q] else "")
            for q, (w, h) in SIZES.items()])
    for name, times in found.get("by sky", {}).items():
        show(f"{name}, sky by sky", [(k, f"{v:.2f} s", "") for k, v in times.items()])
    if share := found.get("lookup share"):
        show("Look-ups a ray", [
            ("densities", f"{share['densities']:.1f}", ""),
            ("noise, shapes, light", f"{share['noise']:.0f}, {share['shapes']:.0f}, "
             f"{share['light']:.0f}", ""),
            ("share of the coherent rate", f"{100 * share['share']:.0f} %", "40 %")])
    if "builds" in found:
        console.print(table_of(found["builds"]))
    if grown := found.get("growth"):
        show("Layers and pixels", [
            ("second, third layer over the first one's cost", f"{grown['second over first']:.2f}, "
             f"{grown['third over first']:.2f}", "0.5"),
            ("four times the pixels", f"{grown['four times the pixels']:.2f} times the time",
             "4")])
    if compiled := found.get("compile"):
        show("Kernels on one core", [("cold and cached", f"{compiled['cold']:.0f} s, "
                                      f"{compiled['cached']:.1f} s", "60 s, 2 s")])
    if "noise" in found:
        show("Noise in stops: proof after a blur (wanted .05), final (wanted .07)", [
            (k, f"{a:.3f}, {b:.3f}", f"{c:.0f}") for k, (a, b, c) in found["noise"].items()],
            ("sky", "proof, final", "times faster than the reference"))
    if "accuracy" in found:
        show("March against the path tracer: mean luminance, rms of blocks beyond its noise", [
            (k, f"{v['mean']:.3f}, {v['net']:.3f}", f"{v['noise']:.3f}")
            for k, v in found["accuracy"].items()], ("scene", "mean, rms", "reference's noise"))
        show("Even slabs: march over discrete ordinates", [
            (k, f"{r:.3f}", f"{t:.3f}") for k, (r, t) in found["slabs"].items()],
            ("slab", "reflectance", "transmittance"))
    if "peak_memory_mb" in found:
        show("Memory", [("peak of the final", f"{found['peak_memory_mb']:.0f} MB", "1500 MB")])
    if "changes" in found:
        show("From an input event in the page to painted pixels", [
            (k, f"{v['seconds'] * 1e3:.0f} ms at {v['size'][0]}×{v['size'][1]}",
             f"{CHANGES[k][3] * 1e3:.0f} ms") for k, v in found["changes"].items()]
            + [("cold start to first page", f"{found['cold_start']:.2f} s", "3 s"),
               ("pages while rendering, p95", f"{found['pages_p95'] * 1e3:.0f} ms", "100 ms")])
        show("Pictures a second while a hand drags, one window and two", [
            (kind, ", ".join(f"{a:.1f}" for a in rates), "6")
            for kind, rates in found["drags"].items()])


if __name__ == "__main__":
    main(sys.argv[1:])
