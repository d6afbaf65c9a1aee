"""Figures of the moving sky: what a frame costs over the still, how soon a proof plays, flicker of
what drifts, and jumps from frame to frame. Run by hand: ``python -m tools.motion``."""

from __future__ import annotations

import time
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.picture.studio import Studio, Wish
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data

LAYERS: list[dict[str, Any]] = [
    {"id": "heaps", "genus": "cumulus", "wind": {"from_deg": 270, "speed_m_s": 8}},
    {"id": "cells", "genus": "altocumulus", "wind": {"from_deg": 240, "speed_m_s": 15}},
    {"id": "veil", "genus": "cirrus", "wind": {"from_deg": 200, "speed_m_s": 30}},
]
BLOCK = 16


def sky_of(layers: list[dict[str, Any]] = LAYERS, **motion: Any) -> Sky:
    return sky_from_data({"dovrek": 1, "layers": layers, "moment": "2026-06-21T15:00:00",
                            "motion": motion})


def frames(studio: Studio, sky: Sky, wish: Wish, seconds: list[float]
           ) -> tuple[list[NDArray[np.float32]], list[float]]:
    """Light of frames and what each took."""
    light, took = [], []
    for second in seconds:
        start = time.perf_counter()
        light.append(studio.render(sky, replace(wish, clip_s=second)).light)
        took.append(time.perf_counter() - start)
    return light, took


def costs(studio: Studio, size: tuple[int, int] = (960, 540), count: int = 48) -> None:
    """A frame against the march of the still, sun still and moving."""
    for name, scale, moves in (("sun still", 30.0, False), ("sun moving", 60.0, True)):
        sky = sky_of(length_s=4.0, fps=count / 4.0, time_scale=scale, sun_moves=moves)
        wish = Wish(*size, "proof")
        march = np.median([studio.render(sky, wish).seconds["march"] for _ in range(3)])
        light, took = frames(studio, sky, wish, [k * 4.0 / count for k in range(count)])
        again = np.median([studio.render(sky, wish).seconds["march"] for _ in range(3)])
        march = 0.5 * (march + again)
        print(f"{name:12} still's march {march:.2f} s, median frame {np.median(took):.2f} s "
              f"({np.median(took) / march:.2f}), all {sum(took):.1f} s "
              f"({sum(took) / count / march:.2f})  jumps {jump(light):.2f} × the 99th percentile")


def proof(studio: Studio) -> None:
    """A motion proof of five seconds, as the composer asks for it."""
    sky = sky_of(length_s=5.0, fps=12.0, time_scale=30.0)
    studio.render(sky, Wish(480, 270, "proof"))
    for name, wish, every in (("coarse", Wish(240, 135, "sketch", soon=True), 4),
                              ("fine", Wish(480, 270, "sketch"), 1)):
        _, took = frames(studio, sky, wish, [k / 12 for k in range(0, 60, every)])
        print(f"{name:12} {len(took)} frames in {sum(took):.1f} s")


def blurred(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """The mean over two pixels each way."""
    return 0.25 * (values[1:, 1:] + values[:-1, 1:] + values[1:, :-1] + values[:-1, :-1])


def flicker(studio: Studio, quality: str) -> None:
    """A layer seen from above that drifts by a pixel a frame: how far pixels of its inside change
    once that is taken out, in stops."""
    width, extent_km = 240, 12.0
    pixel = extent_km * 1000.0 / width
    heaps = [{"genus": "cumulus", "cover_oktas": 6.0, "churn": {"rate": 0.0},
              "wind": {"from_deg": 270, "speed_m_s": pixel}}]
    sky = sky_of(heaps, length_s=16.0, fps=1.0, time_scale=1.0, sun_moves=False)
    wish = Wish(width, width, quality, "plan", extent_km=extent_km)
    light, _ = frames(studio, sky, wish, [float(k) for k in range(9)])
    still = np.stack([blurred(np.roll(f[..., 1], -k, axis=1)[:, : width - 10])
                      for k, f in enumerate(light)])
    stops = np.log2(np.maximum(still, 1e-3))
    clouds = still.mean(axis=0)
    inside = clouds > np.quantile(clouds, 0.6)
    off = np.std(stops, axis=0)[inside]
    print(f"flicker, {quality}: {np.median(off):.4f} stops in the middle, {off.mean():.4f} in the "
          f"mean, 95th percentile {np.quantile(off, 0.95):.4f}")


def jump(light: list[NDArray[np.float32]]) -> float:
    """The largest change of a block from a frame to the next, over the 99th percentile of all."""
    rows, columns = (n // BLOCK * BLOCK for n in light[0].shape[:2])
    blocks = np.stack([f[:rows, :columns, 1].reshape(
        rows // BLOCK, BLOCK, columns // BLOCK, BLOCK).mean(axis=(1, 3)) for f in light])
    changes = np.abs(np.diff(np.log2(np.maximum(blocks, 1e-3)), axis=0))
    at = np.unravel_index(int(changes.argmax()), changes.shape)
    print(f"    largest {changes.max():.3f} stops, from frame {at[0]} on, block row {at[1]} of "
          f"{rows // BLOCK}, column {at[2]}")
    return float(changes.max() / np.quantile(changes, 0.99))


def main() -> None:
    studio = Studio(2)
    try:
        studio.render(sky_of(), Wish(240, 135, "sketch"))
        proof(studio)
        for quality in ("proof", "final"):
            flicker(studio, quality)
        costs(studio)
    finally:
        studio.close()


if __name__ == "__main__":
    main()
