"""The fast method against the path tracer, scene by scene.

`python -m tools.accuracy` renders the committed references anew (about half an hour on two
cores); `make bench` and the tests read them and render the fast pictures only.
"""

from __future__ import annotations

import sys
import time
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.density import density
from dovrek.core.compile.kernels import solver
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.reference import trace_frame, tracing_of
from dovrek.core.transport.sample import DISTANCE
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data

FOLDER = Path(__file__).parent.parent / "tests" / "references"
SIZE = (64, 36)
BLOCK = 4
FINER = 4  # the fast picture's pixels are those of a small real picture
SAMPLES = 320
CLOUDY = 0.15  # share of a block's paths that met cloud, for it to count
HEADING = 0.0
VIEWS = {"toward": 50.0, "away": 155.0}  # sun's bearing from the heading
LAYERS: dict[str, dict[str, Any]] = {
    "cumulus": {"cover_oktas": 3.5},
    "stratus": {"cover_oktas": 6.5, "clearings": {"share": 0.2}},
    "altocumulus": {"cover_oktas": 4.5},
    "cirrus": {"cover_oktas": 4.0},
}
PITCH = {"cumulus": 17.0, "stratus": 20.0, "altocumulus": 24.0, "cirrus": 26.0}
SUNS = (60.0, 20.0, 5.0)

# Genera that came after every constant was settled: name, layer, sun, bearing, pitch.
LATER: tuple[tuple[str, dict[str, Any], float, float, float], ...] = (
    ("stratocumulus 30° away", {"genus": "stratocumulus", "cover_oktas": 5.0}, 30.0, 155.0, 22.0),
    ("altostratus 30° toward", {"genus": "altostratus", "cover_oktas": 8.0}, 30.0, 50.0, 30.0),
    ("cirrocumulus 35° away", {"genus": "cirrocumulus", "cover_oktas": 4.0}, 35.0, 155.0, 30.0),
    ("cirrostratus 25° toward", {"genus": "cirrostratus", "cover_oktas": 8.0,
                                 "light": {"halo": 0.0}}, 25.0, 50.0, 26.0),
    ("lenses 30° aside", {"genus": "altocumulus", "species": "lenticularis", "cover_oktas": 3.0},
     30.0, 90.0, 24.0),
)

# Deep clouds with hollows, whose paths are long and few: name, layer, sun, bearing, pitch, seed.
# The constants of `light_grid.HOLLOWS_*` were settled on the first five.
DEEP_SAMPLES = 96
DEEP: tuple[tuple[str, dict[str, Any], float, float, float, int], ...] = (
    ("nimbostratus with rain 30° away", {"genus": "nimbostratus"}, 30.0, 155.0, 24.0, 41),
    ("nimbostratus 30° away", {"genus": "nimbostratus", "fall": {"amount": 0.0}},
     30.0, 155.0, 24.0, 41),
    ("deep stratus 40° aside", {"genus": "stratus", "cover_oktas": 8.0, "base_m": 800,
                                "thickness_m": 1500}, 40.0, 90.0, 14.0, 42),
    ("deep stratocumulus 50° toward", {"genus": "stratocumulus", "cover_oktas": 7.5,
                                       "thickness_m": 900}, 50.0, 50.0, 20.0, 43),
    ("towers with an anvil 35° aside", {"genus": "cumulonimbus", "species": "capillatus"},
     35.0, 90.0, 14.0, 44),
    ("nimbostratus 55° toward", {"genus": "nimbostratus", "fall": {"amount": 0.0}},
     55.0, 50.0, 28.0, 45),
    ("deep stratus 12° away", {"genus": "stratus", "cover_oktas": 8.0, "base_m": 600,
                               "thickness_m": 1200}, 12.0, 150.0, 20.0, 46),
    ("tall towers 20° away", {"genus": "cumulus", "species": "congestus", "cover_oktas": 5.0,
                              "thickness_m": 3500}, 20.0, 140.0, 22.0, 47),
)
DEEP_HELD_OUT = tuple(row[0] for row in DEEP[5:])


# Things with a place: name, layers, sun, bearing, pitch, paths a pixel, the rest of the document.
# No constant was settled on these.
HEAP = {"genus": "cumulus", "id": "a", "cover_oktas": 0.0, "heroes": [{
    "id": "h", "north_m": 5200.0, "east_m": 300.0, "width_m": 3200.0, "height_m": 2600.0,
    "growth": 0.8, "seed": 4}]}
FOGGY = {"present": True, "sight_m": 400.0, "depth_m": 150.0, "patchiness": 0.0}
MOUNTAIN = {"form": "mountain", "highest_m": 1500.0, "extent_km": 14.0, "north_km": 9.0}
PLACED: tuple[tuple[str, list[dict[str, Any]], float, float, float, int, dict[str, Any]],
              ...] = (
    ("cloud by hand 35° aside", [HEAP], 35.0, 90.0, 16.0, 192, {}),
    ("even fog 40° aside", [], 40.0, 90.0, 12.0, 2400, {"fog": FOGGY}),
    ("even fog 5° aside", [], 5.0, 90.0, 12.0, 2400, {"fog": FOGGY}),
    ("mountain under heaps 30° aside", [{"genus": "cumulus", "id": "a", "cover_oktas": 3.0}],
     30.0, 100.0, 8.0, 192, {"relief": MOUNTAIN}),
    ("fog before hills 20° aside", [], 20.0, 70.0, 2.0, 960, {
        "relief": {"form": "hills", "highest_m": 500.0, "extent_km": 14.0, "north_km": 7.0},
        "fog": {**FOGGY, "sight_m": 2500.0, "lies": "level", "level_m": 120.0}}),
)


@dataclass(frozen=True)
class Case:
    """One picture to compare."""

    name: str
    sky: Sky
    held_out: bool = False  # rendered and compared only after every constant was settled
    samples: int = SAMPLES
    whole: bool = False  # land and sky count as well as cloud


def _sky(layers: list[dict[str, Any]], sun: float, bearing: float, pitch: float,
         lens: float = 28.0, seed: int = 3, albedo: float = 0.18, **place: Any) -> Sky:
    return sky_from_data({
        "dovrek": 1, "seed": seed,
        "sun": {"mode": "free", "elevation_deg": sun, "azimuth_deg": HEADING + bearing},
        "air": {"haze": 0.1, "ground_albedo": albedo},
        "camera": {"heading_deg": HEADING, "pitch_deg": pitch, "lens_mm": lens},
        "layers": layers, **place,
    })


def cases() -> list[Case]:
    """All comparisons: genus × sun × view, then the held-out skies."""
    found = [Case(f"{genus} {sun:.0f}° {view}",
                  _sky([{"genus": genus, "id": "a", **parts}], sun, bearing, PITCH[genus]))
             for genus, parts in LAYERS.items() for sun in SUNS
             for view, bearing in VIEWS.items()]
    found += [
        Case("tall heaps 35° aside", _sky([{
            "genus": "cumulus", "id": "a", "cover_oktas": 4.0, "base_m": 900,
            "thickness_m": 2200, "cells": {"size_m": 2800}, "body": {"density_per_km": 50}}],
            35.0, 90.0, 22.0, seed=11)),
        Case("thin sheet 12° toward", _sky([{
            "genus": "stratus", "id": "a", "cover_oktas": 8.0, "base_m": 1500,
            "thickness_m": 250, "body": {"density_per_km": 22}}],
            12.0, 30.0, 24.0, seed=12)),
        Case("cells under streaks 45° away", _sky([
            {"genus": "altocumulus", "id": "a", "cover_oktas": 3.0, "base_m": 3000,
             "cells": {"size_m": 800}},
            {"genus": "cirrus", "id": "b", "cover_oktas": 4.0}],
            45.0, 140.0, 25.0, seed=13)),
        Case("small heaps under a veil 28° aside", _sky([
            {"genus": "cumulus", "id": "a", "cover_oktas": 2.5, "thickness_m": 600,
             "cells": {"size_m": 1100}},
            {"genus": "cirrus", "id": "b", "cover_oktas": 5.0, "seed": 5}],
            28.0, 100.0, 20.0, seed=21), True),
        Case("broken sheet over snow 40° away", _sky([{
            "genus": "stratus", "id": "a", "cover_oktas": 5.0, "base_m": 800,
            "thickness_m": 500}], 40.0, 130.0, 22.0, seed=22, albedo=0.7), True),
        Case("dense cells 9° aside", _sky([{
            "genus": "altocumulus", "id": "a", "cover_oktas": 6.0, "thickness_m": 400,
            "cells": {"size_m": 700}, "body": {"density_per_km": 40}}],
            9.0, 80.0, 26.0, seed=23), True),
    ]
    found += [Case(name, _sky([{"id": "a", **layer}], sun, bearing, pitch, seed=31), True)
              for name, layer, sun, bearing, pitch in LATER]
    found += [Case(name, _sky(layers, sun, bearing, pitch, seed=51, **place), True, paths,
                   whole="relief" in place)
              for name, layers, sun, bearing, pitch, paths, place in PLACED]
    return found + [Case(name, _sky([{"id": "a", **layer}], sun, bearing, pitch, seed=seed),
                         name in DEEP_HELD_OUT,
                         SAMPLES if layer["genus"] == "cumulus" else DEEP_SAMPLES)
                    for name, layer, sun, bearing, pitch, seed in DEEP]


@solver
def _points(field: Any, layer: int, count: int) -> float:
    p = field.layers[layer]
    total = 0.0
    for k in range(1, count + 1):  # points that fill a box evenly (Roberts 2018)
        x = 30_000.0 * ((0.8191725134 * k) % 1.0 - 0.5)
        y = 30_000.0 * ((0.6710436067 * k) % 1.0 - 0.5)
        z = p.lowest + (p.highest - p.lowest) * ((0.5497004779 * k) % 1.0)
        total += density(field, layer, x, y, z, 0.0, 2.0)[1]
    return total / count


def fingerprint(prepared: Any) -> float:
    """Mean extinction over points in every layer: changes when the clouds' shapes change."""
    field = prepared.scene.field
    return sum(_points(field, k, 20_000) for k in range(field.layers.shape[0]))


def path_of(case: Case) -> Path:
    return FOLDER / (case.name.replace(" ", "-").replace("°", "") + ".npz")


def render_reference(studio: Studio, case: Case) -> dict[str, Any]:
    """XYZ, standard errors of luminance, share of cloud, and what it was made from."""
    wish = Wish(*SIZE, "final", sun_disc=False)
    prepared, _ = studio.prepare(case.sky, wish, Cancel())
    views = studio.preparer.surroundings(prepared, Cancel())
    xyz, error = trace_frame(prepared.scene, tracing_of(views), wish.lens(case.sky),
                             SIZE, case.samples, studio.workers, Cancel())
    return {"xyz": xyz[..., :3], "error": error.astype(np.float32),
            "cloud": (xyz[..., DISTANCE] > 0).astype(np.float32),
            "fingerprint": fingerprint(prepared),
            "document": case.sky.model_dump_json(exclude_defaults=True)}


def blocks(a: NDArray[Any]) -> NDArray[np.float64]:
    """Means of 4 × 4 pixels."""
    h, w = a.shape
    return a.reshape(h // BLOCK, BLOCK, w // BLOCK, BLOCK).mean((1, 3), dtype=np.float64)


@dataclass(frozen=True)
class Found:
    """How a fast picture compares."""

    mean: float  # fast over reference, mean luminance of cloudy blocks
    rms: float  # of block differences over that mean
    noise: float  # the reference's own standard error of a block over the mean


def compare(fast: NDArray[Any], reference: dict[str, Any], whole: bool = False) -> Found:
    """Luminance of the fast picture against a reference's: cloudy blocks, or `whole` the frame."""
    true, tried = blocks(reference["xyz"][..., 1]), blocks(fast)
    error = np.sqrt(blocks(reference["error"].astype(np.float64) ** 2)) / BLOCK
    cloudy = blocks(reference["cloud"]) > (-1.0 if whole else CLOUDY)
    mean = float(true[cloudy].mean())
    return Found(float(tried[cloudy].mean()) / mean,
                 float(np.sqrt(np.mean((tried - true)[cloudy] ** 2))) / mean,
                 float(np.sqrt(np.mean(error[cloudy] ** 2))) / mean)


def fast_frame(studio: Studio, case: Case, samples: int = 2) -> NDArray[np.float32]:
    """Luminance by the march at four times the resolution, averaged down to the reference's."""
    wish = Wish(SIZE[0] * FINER, SIZE[1] * FINER, "final", sun_disc=False)
    prepared, _ = studio.prepare(case.sky, wish, Cancel())
    every = replace(QUALITIES["final"], samples=samples, spread=0.0)
    frame = render_frame(prepared, wish.lens(case.sky), (wish.width, wish.height), every,
                         studio.workers, Cancel(), False)
    return frame[..., 1].reshape(SIZE[1], FINER, SIZE[0], FINER).mean((1, 3))


def main() -> None:
    """Render every reference, or those whose names begin with a given word."""
    studio = Studio(2)
    FOLDER.mkdir(exist_ok=True)
    for case in cases():
        if sys.argv[1:] and not case.name.startswith(tuple(sys.argv[1:])):
            continue
        start = time.perf_counter()
        made = render_reference(studio, case)
        np.savez_compressed(path_of(case), **made)
        found = compare(fast_frame(studio, case), made, case.whole)
        print(f"{case.name:32s} {time.perf_counter() - start:6.1f} s  mean {found.mean:.3f}  "
              f"rms {found.rms:.3f}  noise {found.noise:.3f}", flush=True)
    studio.close()


if __name__ == "__main__":
    main()
