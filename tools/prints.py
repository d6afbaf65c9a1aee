"""What forecasts of prints are worth, and what the engine costs: python -m tools.prints
[WIDTH | engine | farm].

Each of a dozen orders is foretold, printed by the engine with its own workers and compared; the
forecast learns from those before. Then a dome is printed and made directly, in turns (`engine`:
that alone). With a WIDTH (16384), a draft dome as wide shows the peak memory of engine and workers
instead; with `farm`, a clip is printed by one and by two workers of a scheduler on this machine.
"""

from __future__ import annotations

import os
import statistics
import sys
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path
from typing import Any

from dovrek.core.picture.studio import Studio
from dovrek.core.run.workers import Cancel
from dovrek.formats.bands import of_frame
from dovrek.formats.dome_set import DomeOrder, dome_numbers, write_dome_set
from dovrek.prints import engine
from dovrek.prints.cluster import Workers
from dovrek.prints.foretold import foretell, learned, wish_of
from dovrek.settings import Settings
from dovrek.sky.reading import sky_from_text
from dovrek.store import print_jobs as jobs
from dovrek.store.demo import demo_texts
from dovrek.store.orders import Order
from dovrek.store.tables import open_database
from tools.processes import free_port, scheduler, worker

ORDERS = [
    Order(960, 540, "draft"), Order(640, 360, "proof"), Order(1280, 720, "proof"),
    Order(1024, 512, "draft", "exr-half", kind="dome"), Order(800, 800, "final"),
    Order(1280, 720, "draft", "exr-half"), Order(1920, 1080, "proof"),
    Order(960, 540, "final", "tiff-16"), Order(0, 0, "final", "vdb", kind="volume", voxel_m=40.0),
    Order(1600, 700, "draft", "jpeg-8"), Order(1024, 512, "proof", "exr-half", kind="dome"),
    Order(1280, 720, "final"),
]
RESIDENT = "VmRSS:"
TURNS = 4


def printed(settings: Settings, workers: Workers, sky: Any, slug: str, order: Order,
            expected_s: float = 0.0) -> Any:
    """The row of a print once it is done."""
    jobs.place(sky, slug, order, expected_s)
    row = jobs.take(engine.OWNER)
    assert row is not None
    engine.attempt(row, settings, workers)
    done = jobs.job(row.id)
    assert done.state == jobs.DONE, done.message
    return done


def forecasts(settings: Settings, workers: Workers) -> None:
    """Table of foretold and real seconds."""
    skies = [(slug, sky_from_text(text)) for slug, text in demo_texts().items()]
    print(f"{'order':42}{'foretold':>10}{'range':>16}{'real':>9}{'off':>8}")
    for k, order in enumerate(ORDERS):
        slug, sky = skies[k % len(skies)]
        studio = Studio(1)
        raw = foretell(sky, order, studio, Cancel())
        studio.close()
        told = learned(raw, jobs.lately_foretold(20), order.kind)
        real = float(printed(settings, workers, sky, slug, order, raw.raw_s).seconds)
        said = f"{slug[:16]} {order.kind} {order.width}x{order.height} {order.quality}"
        print(f"{said:42}{told.seconds:10.1f}{told.low_s:8.1f}{told.high_s:8.1f}{real:9.1f}"
              f"{100.0 * (told.seconds / real - 1.0):+7.0f} %", flush=True)


def overhead(settings: Settings, workers: Workers) -> None:
    """A dome with all its files by the engine and by one process, in turns; both keep their scene
    after the first."""
    sky = sky_from_text(demo_texts()["fair-weather-noon"])
    order = Order(2048, 1024, "final", "exr-half", kind="dome")
    studio, cancel, ratios = Studio(2), Cancel(), []
    for _ in range(TURNS):
        start = time.monotonic()
        made = studio.render(sky, wish_of(order))
        marched = time.monotonic()
        numbers = dome_numbers(sky, made.prepared, made.metered, studio, cancel)
        counted = time.monotonic()
        with tempfile.TemporaryDirectory() as folder:
            write_dome_set(Path(folder), sky, DomeOrder("dome", order.width, order.quality,
                                                        order.sun == "in"),
                           of_frame(made.light), numbers, studio.workers, cancel, 0.0)
        direct = time.monotonic() - start
        row = printed(settings, workers, sky, "fair-weather-noon", order)
        ratios.append(row.seconds / direct)
        print(f"dome 2048 × 1024 final: direct {direct:.1f} s (picture {marched - start:.1f}, "
              f"illuminances {counted - marched:.1f}, files {direct + start - counted:.1f}), "
              f"print {row.seconds:.1f} s", flush=True)
    print(f"print over direct, scenes kept: {statistics.median(ratios[1:]):.3f} (wanted 1.05); "
          f"files of a direct one: {(direct + start - counted) / direct:.2f} (wanted .1)")
    studio.close()


def farm(settings: Settings, folder: Path) -> None:
    """Frames a second of a clip printed by one worker and by two, a core each, which a scheduler
    on this machine gives work to."""
    sky = sky_from_text(demo_texts()["fair-weather-noon"])
    sky = sky.model_copy(update={"motion": sky.motion.model_copy(update={"length_s": 2.0,
                                                                         "fps": 12})})
    order = Order(480, 270, "proof", "png-8", kind="frames")
    for count in (1, 2):
        address = f"tcp://127.0.0.1:{free_port()}"
        begun = [scheduler(address, folder)]
        far = Workers(address)
        try:
            for core in range(count):
                begun.append(worker(address, folder, f"w{core}"))
                for thread in Path(f"/proc/{begun[-1].pid}/task").iterdir():
                    os.sched_setaffinity(int(thread.name), {core})
            start = time.monotonic()
            printed(replace(settings, scheduler=address), far, sky, "fair-weather-noon", order)
            seconds = time.monotonic() - start
        finally:
            far.drop()
            for process in reversed(begun):
                process.terminate()
                process.wait(30)
        print(f"24 frames of 480 × 270, proof, {count} with a core each: {seconds:.1f} s, "
              f"{24 / seconds:.2f} a second", flush=True)


class Watch(threading.Thread):
    """The peak of a process and its children, bytes resident."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.peak, self.going = 0, True

    def run(self) -> None:
        while self.going:
            self.peak = max(self.peak, sum(map(_resident, _family())))
            time.sleep(0.2)


def _family() -> list[Path]:
    """This process and those that it began, and theirs."""
    parents = {}
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            parents[folder.name] = (folder / "stat").read_text().rpartition(")")[2].split()[1]
        except OSError:
            continue
    found, new = set(), {str(Path("/proc/self").resolve().name)}
    while new:
        found |= new
        new = {child for child, parent in parents.items() if parent in new} - found
    return [Path("/proc") / name for name in found]


def _resident(folder: Path) -> int:
    try:
        lines = (folder / "status").read_text().splitlines()
    except OSError:
        return 0
    return sum(int(line.split()[1]) * 1024 for line in lines if line.startswith(RESIDENT))


def large(settings: Settings, workers: Workers, width: int) -> None:
    """Peak memory of a large dome."""
    sky = sky_from_text(demo_texts()["last-light"])
    watch = Watch()
    watch.start()
    row = printed(settings, workers, sky, "last-light",
                  Order(width, width // 2, "draft", "exr-half", kind="dome"))
    watch.going = False
    print(f"dome {width} × {width // 2} draft: {row.seconds:.0f} s, peak "
          f"{watch.peak / 2**30:.2f} GiB with workers")


def main() -> None:
    with tempfile.TemporaryDirectory() as folder:
        settings = Settings(Path(folder))
        settings.make_folders()
        open_database(settings.database)
        workers = Workers("")
        try:
            if sys.argv[1:] == ["engine"]:
                overhead(settings, workers)
            elif sys.argv[1:] == ["farm"]:
                farm(settings, Path(folder))
            elif len(sys.argv) > 1:
                large(settings, workers, int(sys.argv[1]))
            else:
                forecasts(settings, workers)
                overhead(settings, workers)
        finally:
            workers.drop()


if __name__ == "__main__":
    main()
