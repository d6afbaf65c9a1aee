"""Grain is spread over its neighbours; edges, lines and the light as a whole stay as they are."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from dovrek.core.picture import calming, render
from dovrek.core.picture.calming import calm
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import ALPHA, OUT
from tests.conftest import free_sun


def lit(luminance: np.ndarray) -> np.ndarray:
    """A frame of grey light of one luminance each pixel, with alpha and distance."""
    frame = np.ones((*luminance.shape, OUT), dtype=np.float32)
    frame[..., :3] = luminance[..., None]
    return frame


def stops(frame: np.ndarray) -> np.ndarray:
    return np.log2(frame[..., 1])


def test_grain_falls_and_the_light_stays() -> None:
    """White noise of a tenth on an even slope falls to less than half; the mean stays within a
    thousandth, alpha and distance altogether."""
    noise = np.random.default_rng(3).normal(1.0, 0.1, (120, 160))
    slope = np.linspace(2000.0, 3000.0, 160)[None, :]
    frame = lit(noise * slope)
    before = frame.copy()
    calm(frame)
    assert np.std(frame[..., 1] / slope) < 0.5 * np.std(before[..., 1] / slope)
    assert frame[..., 1].mean() == pytest.approx(before[..., 1].mean(), rel=1e-3)
    assert (frame[..., 3:] == before[..., 3:]).all()


@pytest.mark.parametrize("turn", [0.0, 20.0, 45.0, 70.0, 90.0])
@pytest.mark.parametrize("kind", ["edge", "line"])
def test_edges_and_lines_stay(kind: str, turn: float) -> None:
    """An edge of half a stop, and a line two pixels wide, keep all but a twentieth of their
    contrast however they lie."""
    y, x = np.mgrid[:80, :80] - 39.6
    along = x * np.cos(np.radians(turn)) + y * np.sin(np.radians(turn))
    form = np.clip(along + 0.5, 0, 1) if kind == "edge" else np.clip(1.5 - np.abs(along), 0, 1)
    frame = lit(3000.0 * 2.0 ** (0.5 * form))
    before = stops(frame)
    calm(frame)
    inner = np.s_[8:-8, 8:-8]
    assert np.abs(stops(frame) - before)[inner].max() < 0.025


def test_a_dome_is_calmed_round_about() -> None:
    """Turning a dome and calming it give the same in either order: it has no seam."""
    noise = np.random.default_rng(5).normal(1.0, 0.1, (40, 96))
    frame, turned = lit(1000.0 * noise), lit(1000.0 * np.roll(noise, 31, axis=1))
    calm(frame, round_about=True)
    calm(turned, round_about=True)
    assert turned == pytest.approx(np.roll(frame, 31, axis=1), rel=1e-5)


def test_strips_leave_no_trace(monkeypatch: pytest.MonkeyPatch) -> None:
    """Calmed in strips, a frame is what it is calmed in one piece, to the bit; what is form
    throughout stays as it was."""
    noise = np.random.default_rng(7).normal(1.0, 0.1, (101, 60)).astype(np.float32)
    frame = lit(1000.0 * noise)
    before = frame.copy()
    share = calm(frame)
    whole = before.copy()
    monkeypatch.setattr(calming, "STRIPS", 1)
    calm(whole)
    assert (whole == frame).all()
    bare, once = (np.ascontiguousarray(before[..., :3]) for _ in range(2))
    calm(once)  # of light alone, of which no channel is left as it is
    monkeypatch.undo()
    calm(bare)
    assert (bare == once).all() and (bare == frame[..., :3]).all()
    same = share == 1.0
    assert (frame[same] == before[same]).all()
    spread = np.abs(frame[..., 1] - before[..., 1]) > 1e-3
    assert spread[share < 0.9].mean() > 0.95


@pytest.mark.long
def test_a_proof_comes_nearer_to_the_truth(studio: Studio, monkeypatch: pytest.MonkeyPatch) -> None:
    """Near broken heaps a calmed proof differs less from a picture of many rays by a sixth at
    least, and such a picture is itself hardly changed (ours)."""
    sky = free_sun(40, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 4.0}],
                   camera={"pitch_deg": 25.0, "lens_mm": 90.0})
    wish = Wish(240, 135)
    prepared, _ = studio.prepare(sky, wish, Cancel())
    lens = wish.lens(sky)

    def frame_of(quality: render.Quality) -> np.ndarray:
        return render_frame(prepared, lens, (240, 135), quality, studio.workers, Cancel(), False)

    proof = QUALITIES["proof"]
    truth = frame_of(replace(QUALITIES["final"], samples=12, spread=0.0, wide=0.0))
    calmed = frame_of(proof)
    monkeypatch.setattr(render, "calm", lambda *parts: None)
    grainy = frame_of(proof)
    off = [float(np.std(stops(frame) - stops(truth))) for frame in (calmed, grainy)]
    assert off[0] < 0.84 * off[1]
    again = truth.copy()
    calm(again)
    assert np.std(stops(again) - stops(truth)) < 0.01


def test_alpha_is_calmed_with_its_light() -> None:
    """Grain in what a cloud lets through would show again in what is laid behind: both are spread,
    and an even alpha or an edge of it stays."""
    grain = np.random.default_rng(9).normal(0.0, 0.08, (120, 160))
    alpha = np.clip(np.linspace(0.2, 0.6, 160)[None, :] + grain, 0.0, 1.0)
    frame = lit(2000.0 * alpha)
    frame[..., ALPHA] = alpha
    calm(frame)
    behind = frame[..., 1] + 6000.0 * (1.0 - frame[..., ALPHA])
    before = 2000.0 * alpha + 6000.0 * (1.0 - alpha)
    slope = before.mean(axis=0)
    assert np.std(behind / slope) < 0.5 * np.std(before / slope)
    edge = np.where(np.arange(160)[None, :] < 80, 0.0, 1.0) * np.ones((120, 1))
    form = lit(1000.0 * 2.0 ** (np.mgrid[:120, :160].sum(axis=0) / 80.0))
    form[..., ALPHA] = edge
    kept = form.copy()
    calm(form)
    assert form[..., ALPHA] == pytest.approx(kept[..., ALPHA], abs=1e-6)
    assert stops(form) == pytest.approx(stops(kept), abs=0.01)
