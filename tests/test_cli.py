"""The commands as outsiders call them."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner, Result
from PIL import Image

from dovrek.cli import main
from dovrek.store.demo import demo_texts
from tools import faults


def call(*words: str, text: str | bytes | None = None) -> Result:
    return CliRunner().invoke(main, list(words), input=text)


@pytest.fixture()
def sky_file(tmp_path: Path) -> Path:
    path = tmp_path / "sky.json"
    path.write_text(json.dumps({"dovrek": 1, "moment": "2026-06-21T18:30",
                                "layers": [{"genus": "cumulus", "name": "Heaps"}]}))
    return path


def test_render_writes_a_picture_and_one_json_object(sky_file: Path, tmp_path: Path) -> None:
    out = tmp_path / "out.png"
    found = call("render", str(sky_file), "-o", str(out), "--size", "96x54", "--quality", "draft",
                 "--json")
    assert found.exit_code == 0, found.output
    said = json.loads(found.stdout)
    assert {"seconds", "rays", "mean_luminance_cd_m2", "file"} <= said.keys()
    assert Image.open(out).size == (96, 54) and list(tmp_path.glob(".part*")) == []


def test_moment_and_seed_change_the_picture(tmp_path: Path) -> None:
    sky_file, pictures = tmp_path / "sky.json", []
    sky_file.write_text('{"dovrek": 1, "layers": [{"genus": "cirrus"}]}')
    for words in ([], ["--at", "2026-06-21T12:00"], ["--seed", "9"]):
        out = tmp_path / f"{len(pictures)}.png"
        found = call("render", str(sky_file), "-o", str(out), "--size", "64x36", "--quality",
                     "draft", *words)
        assert found.exit_code == 0, found.output
        pictures.append(out.read_bytes())
    assert len(set(pictures)) == 3


def test_probe_holds_the_contract(sky_file: Path) -> None:
    found = call("probe", str(sky_file), "--json")
    assert found.exit_code == 0, found.output
    said = json.loads(found.stdout)
    assert said["moment"] == "2026-06-21T18:30:00+01:00"
    assert {"elevation_deg", "elevation_true_deg", "azimuth_deg", "direct_normal_lux",
            "direct_horizontal_lux", "cct_k"} == said["sun"].keys()
    assert said["layers"][0]["cover_measured_oktas"] == pytest.approx(3.0, abs=0.5)
    assert said["layers"][0]["name"] == "Heaps" and 0.01 < said["layers"][0][
        "extinction_mean_per_m"] < 0.08
    assert said["sky"]["global_horizontal_lux"] < 1.6 * said["clear_sky"]["global_horizontal_lux"]
    assert said["camera"]["fov_h_deg"] == pytest.approx(65.47, abs=0.05)


def test_check_and_schema(sky_file: Path) -> None:
    assert json.loads(call("check", str(sky_file), "--json").stdout)["valid"] is True
    assert json.loads(call("schema").stdout)["title"] == "Sky"
    assert call("check", "-", text='{"dovrek": 1}').exit_code == 0


@pytest.mark.parametrize(("words", "text", "part"), [
    (["check", "-"], '{"dovrek": 1, "layers": [{"thickness_m": -1}]}', "layers[0].thickness_m"),
    (["check", "/nowhere/sky.json"], None, "cannot be read"),
    (["check", "no-such-sky"], None, "no-such-sky"),
    (["render", "-", "-o", "/tmp/x.gif"], '{"dovrek": 1}', "no known picture format"),
    (["render", "-", "-o", "/nowhere/x.png"], '{"dovrek": 1}', "/nowhere"),
    (["render", "-", "-o", "/tmp/x.png", "--size", "99999x2"], '{"dovrek": 1}', "99999"),
    (["render", "-", "-o", "/tmp/x.png", "--size", "big"], '{"dovrek": 1}', "1920x1080"),
    (["render", "-", "-o", "/tmp/x.png", "--at", "noon"], '{"dovrek": 1}', "ISO"),
    (["render", "-", "-o", "/tmp/x.jpg", "--ground", "off", "--size", "16x16", "--quality",
      "draft"], '{"dovrek": 1}', "transparency"),
])
def test_bad_input_is_one_line_and_status_2(words: list[str], text: str | None, part: str,
                                            monkeypatch: pytest.MonkeyPatch,
                                            tmp_path: Path) -> None:
    monkeypatch.setenv("DOVREK_HOME", str(tmp_path))
    found = call(*words, text=text)
    assert found.exit_code == 2
    assert part in found.stderr and len(found.stderr.strip().splitlines()) == 1
    assert found.stdout == ""


@pytest.mark.parametrize(("words", "part"), [
    (["-o", "x.jpg", "--ground", "off"], "--ground: .jpg holds no transparency"),
    (["-o", "kept/x.png"], "cannot be written; choose another"),
    (["-o", "missing/x.png"], "--output"),
])
def test_what_cannot_be_written_is_refused_before_the_picture(
        words: list[str], part: str, sky_file: Path, tmp_path: Path,
        monkeypatch: pytest.MonkeyPatch) -> None:
    """No sky is prepared for a file that could not take it."""
    monkeypatch.chdir(tmp_path)
    (tmp_path / "kept").mkdir()
    monkeypatch.setattr("dovrek.cli.os.access", lambda folder, mode: folder.name != "kept")

    def prepared(*_: object) -> None:
        raise AssertionError("prepared")

    monkeypatch.setattr("dovrek.core.picture.studio.Studio.prepare", prepared)
    found = call("render", str(sky_file), *words, "--size", "320x180")
    assert found.exit_code == 2 and part in found.stderr, found.stderr
    assert list(tmp_path.rglob("x.*")) == []


def test_help_everywhere() -> None:
    for name in main.commands:
        assert call(name, "--help").exit_code == 0


@pytest.mark.long
def test_full_disk_leaves_nothing(sky_file: Path, tmp_path: Path) -> None:
    """A file size limit stands in for the full disk: status 2, words, no half file."""
    code = ("import resource,sys; resource.setrlimit(resource.RLIMIT_FSIZE,(2000,2000));"
            "import signal; signal.signal(signal.SIGXFSZ, signal.SIG_IGN);"
            "from dovrek.cli import main; main(sys.argv[1:])")
    out = tmp_path / "big.png"
    found = subprocess.run([sys.executable, "-c", code, "render", str(sky_file), "-o", str(out),
                            "--size", "320x180", "--quality", "draft"],
                           capture_output=True, text=True, check=False)
    assert found.returncode == 2, found.stderr
    assert "cannot be written" in found.stderr and not out.exists()
    assert list(tmp_path.glob(".part*")) == []


def test_demo_skies_are_valid_and_free_of_advisories() -> None:
    for text in demo_texts().values():
        said = json.loads(call("check", "-", "--json", text=text).stdout)
        assert said["advisories"] == []


def test_reference_is_the_path_tracer(sky_file: Path, tmp_path: Path) -> None:
    """Another way to the same light: mean luminance near the march's, with its noise told."""
    said = []
    for words in (["--reference", "--spp", "16"], ["--quality", "draft"]):
        out = tmp_path / f"{len(said)}.exr"
        found = call("render", str(sky_file), "-o", str(out), "--size", "64x36", "--no-sun-disc",
                     "--json", *words)
        assert found.exit_code == 0 and out.exists(), found.output
        said.append(json.loads(found.stdout))
    assert said[0]["quality"] == "reference" and said[0]["rays"] == 64 * 36 * 16
    assert said[0]["relative_noise"] > 0 and "relative_noise" not in said[1]
    assert said[0]["mean_luminance_cd_m2"] == pytest.approx(said[1]["mean_luminance_cd_m2"],
                                                            rel=0.2)
    assert said[1]["rays"] < 64 * 36 + 8 * 64  # the horizon takes eight samples a pixel
    assert call("render", str(sky_file), "-o", str(tmp_path / "x.png"), "--reference", "--spp",
                "0").exit_code == 2


def test_a_sequence_goes_on_and_a_film_is_read_back(tmp_path: Path) -> None:
    """Numbered frames, those there are kept; the frame alone is the same; the film has them all."""
    import av

    sky = tmp_path / "sky.json"
    sky.write_text(json.dumps({"dovrek": 1, "layers": [{"genus": "cirrus"}],
                               "motion": {"length_s": 1, "fps": 4, "time_scale": 60}}))
    folder = tmp_path / "frames"
    size = ["--size", "64x36", "--quality", "draft"]
    said = json.loads(call("sequence", str(sky), "-o", str(folder), *size, "--json").stdout)
    assert said["frames"] == said["rendered"] == 4
    names = sorted(p.name for p in folder.iterdir())
    assert names == [f"frame-{k:05d}.png" for k in range(4)]
    second = (folder / names[2]).read_bytes()
    (folder / names[2]).unlink()
    again = json.loads(call("sequence", str(sky), "-o", str(folder), *size, "--json").stdout)
    assert again["rendered"] == 1 and (folder / names[2]).read_bytes() == second
    call("render", str(sky), "-o", str(tmp_path / "one.png"), *size, "--clip", "0.5")
    assert np.array_equal(np.asarray(Image.open(tmp_path / "one.png")),
                          np.asarray(Image.open(folder / names[2])))
    call("sequence", str(sky), "-o", str(tmp_path / "a.webm"), *size)
    with av.open(str(tmp_path / "a.webm")) as film:
        assert len(list(film.decode(video=0))) == 4


def test_a_disk_that_fills_keeps_the_frames_before(tmp_path: Path) -> None:
    """No half frame stays; with more room the same command makes those that are missing."""
    sky = tmp_path / "sky.json"
    sky.write_text(json.dumps({"dovrek": 1, "layers": [{"genus": "cirrus"}],
                               "motion": {"length_s": 0.75, "fps": 8, "time_scale": 60}}))
    size = ["--size", "640x360", "--quality", "draft", "--format", "tif"]
    try:
        with faults.small_disk(1) as folder:
            full = call("sequence", str(sky), "-o", str(folder), *size)
            kept = {p.name: p.read_bytes() for p in folder.iterdir()}
            assert full.exit_code != 0 and "No space left" in full.output
            assert 0 < len(kept) < 6 and all(n.startswith("frame-") for n in kept), list(kept)
            subprocess.run(["mount", "-o", "remount,size=40m", str(folder)], check=True)
            said = json.loads(call("sequence", str(sky), "-o", str(folder), *size,
                                   "--json").stdout)
            assert said["rendered"] == 6 - len(kept) and said["frames"] == 6
            assert all((folder / name).read_bytes() == data for name, data in kept.items())
    except OSError as error:
        pytest.skip(f"a file system of its own cannot be mounted here: {error}")


@pytest.mark.parametrize(("more", "part"), [
    (["--from", "3"], "--from"), (["--fps", "0"], "--fps"), (["--size", "63x36"], "even"),
    (["-o", "/proc/none/a.webm"], "--output"),
])
def test_refused_sequences_say_why(tmp_path: Path, more: list[str], part: str) -> None:
    sky = tmp_path / "sky.json"
    sky.write_text('{"dovrek": 1, "motion": {"length_s": 1}}')
    out = [] if "-o" in more else ["-o", str(tmp_path / "a.webm")]
    found = call("sequence", str(sky), *out, *more)
    assert found.exit_code == 2 and part in found.output


def test_what_a_user_must_mend_is_said_as_such(tmp_path: Path,
                                               monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("DOVREK_PORT", "abc")
    found = call("serve", "--home", str(tmp_path / "home"))
    assert found.exit_code == 2 and "DOVREK_PORT" in found.output
    monkeypatch.delenv("DOVREK_PORT")
    monkeypatch.setenv("DOVREK_REFINE", "finest")
    found = call("serve", "--home", str(tmp_path / "home"))
    assert found.exit_code == 2 and "DOVREK_REFINE" in found.output and "sketch" in found.output
    monkeypatch.delenv("DOVREK_REFINE")
    import socket

    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        found = call("serve", "--home", str(tmp_path / "home"), "--port",
                       str(taken.getsockname()[1]))
    assert found.exit_code == 2 and "--port" in found.output
