"""Films read back by PyAV: how many frames, how fast, which colours."""

from __future__ import annotations

from pathlib import Path

import av
import numpy as np
import pytest
from numpy.typing import NDArray

from dovrek.formats.webm import write_film

COLOURS = ((40, 90, 170), (200, 205, 210), (120, 118, 105))


def frames() -> list[NDArray[np.uint8]]:
    made = []
    for k in range(25):
        pixels = np.empty((90, 160, 3), np.uint8)
        for i, colour in enumerate(COLOURS):
            pixels[30 * i : 30 * (i + 1)] = colour
        pixels[:, 4 * k : 4 * k + 20] = (235, 120, 60)
        made.append(pixels)
    return made


def test_a_film_is_what_went_in(tmp_path: Path) -> None:
    path = tmp_path / "a.webm"
    assert write_film(path, frames(), (160, 90), 12.5) == 25
    with av.open(str(path)) as film:
        stream = film.streams.video[0]
        assert stream.codec_context.name in ("vp9", "libvpx-vp9")
        assert float(stream.average_rate) == pytest.approx(12.5, rel=0.01)
        shown = list(film.decode(stream))
        assert stream.codec_context.color_primaries == 1 and stream.codec_context.colorspace == 1
    assert len(shown) == 25
    assert float(shown[-1].time) == pytest.approx(24 / 12.5, abs=0.01)
    for k in (0, 12, 24):
        found = shown[k].to_ndarray(format="rgb24")
        for i, colour in enumerate(COLOURS):  # away from the bar and its edges
            mean = found[30 * i + 6 : 30 * i + 24, 130:156].mean(axis=(0, 1))
            assert mean == pytest.approx(colour, abs=4), (k, i)


def test_a_film_that_fails_leaves_nothing(tmp_path: Path) -> None:
    def broken() -> object:
        yield frames()[0]
        raise OSError(28, "No space left on device")

    with pytest.raises(OSError, match="space"):
        write_film(tmp_path / "a.webm", broken(), (160, 90), 25.0)  # type: ignore[arg-type]
    assert list(tmp_path.iterdir()) == []
