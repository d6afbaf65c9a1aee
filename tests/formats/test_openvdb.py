"""Volumes read back by the format's own library (Debian's python3-openvdb)."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from click.testing import CliRunner
from numpy.typing import NDArray

from dovrek.cli import main
from dovrek.core.clouds.measure import column_depths
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_to_text
from tests.conftest import free_sun

PYTHON = "/usr/bin/python3"
READ = """
import sys, json, numpy as np, pyopenvdb as vdb
grids, said = vdb.readAll(sys.argv[1])
told = {"said": {k: str(v) for k, v in said.items()}, "grids": []}
for n, g in enumerate(sorted(grids, key=lambda g: g.name)):
    low, high = g.evalActiveVoxelBoundingBox()
    dense = np.zeros([b - a + 1 for a, b in zip(low, high)], np.float32)
    g.copyToArray(dense, ijk=low)
    np.save(sys.argv[2] + "-%d.npy" % n, dense)
    told["grids"].append({
        "name": g.name, "class": str(g.gridClass), "low": low,
        "origin": g.transform.indexToWorld((0, 0, 0)), "voxel": g.transform.voxelSize(),
        "active": g.activeVoxelCount(), "background": g.background,
        "said": {k: str(v) for k, v in g.metadata.items()}})
print(json.dumps(told))
"""


def readable() -> bool:
    return subprocess.run([PYTHON, "-c", "import pyopenvdb, numpy"], capture_output=True,
                          check=False).returncode == 0


pytestmark = pytest.mark.skipif(not readable(), reason="python3-openvdb is not installed")


def read(path: Path) -> tuple[dict[str, Any], list[NDArray[np.float32]]]:
    found = subprocess.run([PYTHON, "-c", READ, str(path), str(path.with_suffix(""))],
                           capture_output=True, text=True, check=True)
    told = json.loads(found.stdout)
    return told, [np.load(f"{path.with_suffix('')}-{n}.npy") for n in range(len(told["grids"]))]


def written(sky: Sky, folder: Path, *words: str) -> tuple[Path, dict[str, Any]]:
    (folder / "sky.json").write_text(sky_to_text(sky))
    out = folder / "cloud.vdb"
    found = CliRunner().invoke(main, ["volume", str(folder / "sky.json"), "-o", str(out),
                                      "--json", *words])
    assert found.exit_code == 0, found.output
    return out, json.loads(found.stdout)


def test_columns_are_as_deep_as_the_renderer_s(tmp_path: Path, studio: Studio) -> None:
    """Summed optical depth along 100 columns within 2 % of the renderer's, in the sum and, where
    there is cloud, in most columns."""
    sky = free_sun(40, layers=[{"id": "heaps", "genus": "cumulus", "cover_oktas": 5}])
    voxel, side = 20.0, 4000.0
    path, said = written(sky, tmp_path, "--voxel", f"{voxel:g}", "--extent", f"{side:g}")
    told, (dense,) = read(path)
    grid = told["grids"][0]
    assert grid["name"] == "density" and "fog" in grid["class"].lower()
    assert grid["said"]["unit"] == "1/m" and grid["background"] == 0.0
    assert grid["active"] == said["grids"][0]["active"] == np.count_nonzero(dense)
    body = studio.preparer.bodies(sky, FINE, Cancel())[0]
    # Voxel (0, 0, 0) has its middle half a voxel in from the corner.
    assert grid["origin"][:2] == pytest.approx([-side / 2 - 40 + voxel / 2] * 2, abs=60)
    columns = 10
    depths, lengths = np.empty((columns, columns)), np.empty((columns, columns))
    half = 1700.0  # columns then stand in the middle of voxels
    column_depths(body.field, 0, half, columns, 800, 0, columns, depths, lengths)
    ours = np.zeros((columns, columns))
    for i in range(columns):
        for j in range(columns):
            at = [-half + (n + 0.5) * 2 * half / columns for n in (i, j)]
            index = [round((a - o) / voxel) - low for a, o, low in
                     zip(at, grid["origin"], grid["low"], strict=False)]
            ours[i, j] = dense[index[0], index[1]].sum() * voxel
    assert depths.sum() > 100.0
    assert ours.sum() == pytest.approx(depths.sum(), rel=0.02)


def test_several_layers_make_a_grid_each(tmp_path: Path) -> None:
    sky = free_sun(40, layers=[{"id": "low", "genus": "stratocumulus"},
                               {"id": "high", "genus": "cirrus"}])
    path, _ = written(sky, tmp_path, "--voxel", "100", "--extent", "3000")
    told, arrays = read(path)
    assert [g["name"] for g in told["grids"]] == ["density_high", "density_low"]
    for grid, dense in zip(told["grids"], arrays, strict=True):
        assert dense.max() > 0.0 and grid["voxel"] == [100.0] * 3
    high, low = told["grids"]
    assert high["origin"][2] > low["origin"][2] + 3000.0
    path, _ = written(sky, tmp_path, "--voxel", "100", "--extent", "3000", "--layer", "low")
    assert [g["name"] for g in read(path)[0]["grids"]] == ["density"]


def test_a_sequence_of_volumes_moves(tmp_path: Path) -> None:
    """10 m/s at a time scale of 30: 300 m, three voxels, from one to the next."""
    sky = free_sun(40, layers=[{"id": "a", "genus": "cumulus", "churn": {"rate": 0},
                                "wind": {"from_deg": 270, "speed_m_s": 10}}],
                   motion={"length_s": 2.0, "time_scale": 30})
    (tmp_path / "sky.json").write_text(sky_to_text(sky))
    out = tmp_path / "clip"
    found = CliRunner().invoke(main, ["volume", str(tmp_path / "sky.json"), "-o", str(out),
                                      "--voxel", "100", "--extent", "4000", "--fps", "1"])
    assert found.exit_code == 0, found.output
    first, second = (read(out / f"volume-0000{n}.vdb") for n in (0, 1))

    def whole(told: dict[str, Any], dense: NDArray[np.float32]) -> NDArray[np.float32]:
        grid, room = told["grids"][0], np.zeros((48, 48, 32), np.float32)
        low = [int(round(o / 100.0 - 0.5)) + n for o, n in
               zip(grid["origin"], grid["low"], strict=True)]
        at = [low[0] + 24, low[1] + 24, low[2]]
        room[at[0] : at[0] + dense.shape[0], at[1] : at[1] + dense.shape[1],
             at[2] : at[2] + dense.shape[2]] = dense
        return room

    a, b = whole(first[0], first[1][0]), whole(second[0], second[1][0])
    assert np.abs(b[9:40, 6:42] - a[6:37, 6:42]).max() < 1e-4 * a.max()
    assert np.abs(b - a).max() > 0.1 * a.max()


@pytest.mark.parametrize(("words", "part"), [
    (["--voxel", "0", "--extent", "5000"], "--voxel: 0 m is refused"),
    (["--voxel", "20", "--extent", "1e9"], "--extent"),
    (["--voxel", "1", "--extent", "200000"], "give --voxel"),
    (["--voxel", "20", "--extent", "5000", "--layer", "none"], "--layer"),
    (["--voxel", "20", "--extent", "5000", "--clip", "1e9"], "--clip"),
])
def test_refusals_name_the_mend(tmp_path: Path, words: list[str], part: str) -> None:
    sky = free_sun(40, layers=[{"id": "a", "genus": "cumulus"}])
    (tmp_path / "sky.json").write_text(sky_to_text(sky))
    out = tmp_path / "x.vdb"
    found = CliRunner().invoke(main, ["volume", str(tmp_path / "sky.json"), "-o", str(out), *words])
    assert found.exit_code == 2 and part in found.output, found.output
    assert not out.exists()
