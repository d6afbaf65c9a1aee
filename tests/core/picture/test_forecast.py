"""Forecasts: near what a render then takes, and in proportion."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from dovrek.cli import main
from dovrek.core.picture.forecast import forecast, pieces_of
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.sky.reading import sky_to_text
from tests.conftest import free_sun

SKY = free_sun(40, layers=[{"id": "a", "genus": "cumulus", "cover_oktas": 4}])


@pytest.mark.parametrize("size", [(960, 540), (64, 36), (17, 300)])
def test_pieces_lie_within_the_picture(size: tuple[int, int]) -> None:
    for tile in pieces_of(*size):
        assert 0 <= tile.x0 < tile.x1 <= size[0] and 0 <= tile.y0 < tile.y1 <= size[1]


def test_a_forecast_is_about_what_the_march_then_takes(studio: Studio) -> None:
    """A loose bound, since the machine is shared; `dovrek forecast` against `dovrek render` is
    measured by hand."""
    wish = Wish(640, 360, "draft")
    studio.render(SKY, wish)  # kernels and scene are there
    found = forecast(SKY, wish, studio, Cancel())
    took = studio.render(SKY, wish).seconds["march"]
    assert 0.3 * took < found.march_s < 3.0 * took
    assert found.low_s < found.seconds < found.high_s
    double = forecast(SKY, Wish(1280, 720, "draft"), studio, Cancel())
    assert double.peak_bytes > found.peak_bytes


def told(tmp_path: Path, *words: str) -> dict[str, object]:
    (tmp_path / "sky.json").write_text(sky_to_text(SKY))
    found = CliRunner().invoke(main, ["forecast", str(tmp_path / "sky.json"), "--json", *words])
    assert found.exit_code == 0, found.output
    said: dict[str, object] = json.loads(found.stdout)
    return said


def test_the_command_says_time_memory_and_size(tmp_path: Path) -> None:
    said = told(tmp_path, "--size", "320x180", "--quality", "draft", "--format", ".png")
    assert said["peak_memory_mb"] > 100  # type: ignore[operator]
    out = tmp_path / "x.png"
    CliRunner().invoke(main, ["render", str(tmp_path / "sky.json"), "-o", str(out), "--size",
                              "320x180", "--quality", "draft"])
    assert said["file_mb"] == pytest.approx(out.stat().st_size / 2**20, rel=0.4)
    assert said["doubled"]["file_mb"] == pytest.approx(4 * said["file_mb"])  # type: ignore[index,operator]


def test_a_volume_s_forecast_and_what_half_the_voxel_costs(tmp_path: Path) -> None:
    """Halving the voxel multiplies voxels by 8 (geometry)."""
    words = ["--extent", "4000"]
    said = told(tmp_path, "--voxel", "40", *words)
    assert said["halved_voxel"]["voxels"] == 8 * said["voxels"]  # type: ignore[index,operator]
    out = tmp_path / "x.vdb"
    CliRunner().invoke(main, ["volume", str(tmp_path / "sky.json"), "-o", str(out), "--voxel", "40",
                              *words])
    assert said["file_mb"] == pytest.approx(out.stat().st_size / 2**20, rel=0.5)


@pytest.mark.parametrize(("words", "part"), [
    (["--voxel", "20"], "needs both"), (["--format", ".xyz"], "output"),
    (["--voxel", "0", "--extent", "500"], "--voxel"), (["--size", "1x1"], "--size"),
])
def test_refusals_name_the_mend(tmp_path: Path, words: list[str], part: str) -> None:
    (tmp_path / "sky.json").write_text(sky_to_text(SKY))
    found = CliRunner().invoke(main, ["forecast", str(tmp_path / "sky.json"), *words])
    assert found.exit_code == 2 and part in found.output, found.output
