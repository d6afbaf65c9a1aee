"""Prints on several machines: a scheduler and workers as processes of their own, on loopback."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from dovrek.core.picture.clip import seconds_of
from dovrek.formats.kinds import holding
from dovrek.prints import engine
from dovrek.prints.cluster import Workers
from dovrek.prints.foretold import wish_of
from dovrek.prints.kept import files_of
from dovrek.prints.parts import compute_frame
from dovrek.settings import Settings
from dovrek.sky.reading import sky_to_text
from dovrek.store import print_jobs as jobs
from dovrek.store.orders import order_from
from tests.conftest import free_sun
from tools import processes

SKY = free_sun(40, name="Moving", layers=[{"genus": "cumulus"}],
               motion={"length_s": 1.0, "fps": 8, "time_scale": 60})
FIELDS = {"kind": "frames", "width": 96, "height": 54, "quality": "draft", "format": "png-8"}


@pytest.fixture()
def scheduler(tmp_path: Path) -> Iterator[str]:
    address = f"tcp://127.0.0.1:{processes.free_port()}"
    made = processes.scheduler(address, tmp_path)
    yield address
    made.kill()
    made.wait()


@pytest.mark.long
def test_frames_of_three_workers_one_killed_are_those_of_one_process(
        store: Settings, scheduler: str, tmp_path: Path) -> None:
    workers = [processes.worker(scheduler, tmp_path, f"w{k}") for k in range(3)]
    order = order_from(FIELDS, holding())
    number = jobs.place(SKY, "moving", order).id
    far = Workers(scheduler)
    engine_row = jobs.take(engine.OWNER)
    report = jobs.report
    killed: list[int] = []

    def reporting(*given: object, **said: object) -> bool:
        if int(said.get("done", 0)) >= 3 and not killed:  # type: ignore[call-overload]
            killed.append(workers[0].pid)
            os.kill(workers[0].pid, signal.SIGKILL)
        return report(*given, **said)  # type: ignore[arg-type]

    try:
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(jobs, "report", reporting)
            engine.attempt(engine_row, replace(store, scheduler=scheduler), far)
        done = jobs.job(number)
        assert done.state == jobs.DONE, done.message
        assert killed == [workers[0].pid]
        frames = [p for p in files_of(store, done) if p.suffix == ".png"]
        assert len(frames) == 8
        for path, second in zip(frames, seconds_of(SKY), strict=True):
            alone = compute_frame(sky_to_text(SKY), replace(wish_of(order), clip_s=second))
            assert np.array_equal(np.asarray(Image.open(path)), alone), path.name
    finally:
        far.drop()
        for process in workers:
            process.terminate()
        ends = [process.wait(20) for process in workers]
    assert ends[1:] == [0, 0]  # those that were not killed end by themselves


def test_a_worker_of_another_release_gets_no_work(
        store: Settings, scheduler: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The engine says what it waits for; a worker that comes later says it too, and ends."""
    from dovrek.prints import cluster

    other = processes.worker(scheduler, tmp_path, "other")
    number = jobs.place(SKY, "moving", order_from(FIELDS, holding())).id
    said: list[str] = []

    class Seen(Exception):
        """Enough was said."""

    def beat(message: str) -> None:
        said.append(message)
        if len(said) > 2:
            raise Seen

    with monkeypatch.context() as patch:
        patch.setattr(cluster, "RELEASE", "9.9 (other)")
        far = Workers(scheduler)
        with pytest.raises(Seen):
            far.client(beat)
        assert "waiting for a worker of release 9.9 (other)" in said[-1]
        far._client.set_metadata(["dovrek-release"], "9.9 (other)")  # type: ignore[union-attr]
        time.sleep(0.2)
        late = subprocess.run([sys.executable, "-m", "dovrek.cli", "worker", "--scheduler",
                               scheduler], capture_output=True, timeout=90)
        assert late.returncode == 2 and b"prints with release 9.9" in late.stderr
        far.drop()
    other.terminate()
    assert other.wait(20) == 0
    assert jobs.job(number).state == jobs.WAITING


@pytest.mark.parametrize("address", ["10.0.0.5", "ftp://x:1", "tcp://127.0.0.1:"])
def test_a_worker_without_a_scheduler_says_so(address: str, monkeypatch: pytest.MonkeyPatch
                                              ) -> None:
    from click.testing import CliRunner

    from dovrek.cli import main
    from dovrek.commands import worker as command

    monkeypatch.setattr(command, "TRY_S", 1.0)
    if address.endswith(":"):  # a port where nobody listens
        address += str(processes.free_port())
    # In a thread of its own: a browser of other tests may keep a loop running in this one.
    with ThreadPoolExecutor(1) as aside:
        found = aside.submit(CliRunner().invoke, main,
                             ["worker", "--scheduler", address]).result()
    assert found.exit_code == 2 and "--scheduler" in found.stderr, found.stderr
