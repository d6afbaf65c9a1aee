"""The motion: as a film, or as numbered pictures. Frames are kept till all are there."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.film import white_luminance
from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.picture.clip import seconds_of
from dovrek.core.picture.render import Metered
from dovrek.formats.exr_header import header_of
from dovrek.formats.kinds import printed
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import write_picture
from dovrek.formats.webm import write_film
from dovrek.prints.makers.task import Task, computed, with_sidecar
from dovrek.prints.parts import compute_frame, compute_light, numbers_of
from dovrek.prints.stored import store_part, stored_frame
from dovrek.sky.clip import sky_at


def film(task: Task) -> list[Path]:
    """The film and its sidecar."""
    order, wish = task.order, task.wish()
    seconds, size = seconds_of(task.sky), (order.width, order.height)
    places = [task.parts / f"frame-{k:05d}.npy" for k in range(len(seconds))]
    _count(task, len(seconds), missing := [
        k for k, place in enumerate(places) if stored_frame(place, size) is None])
    numbers = task.counted(numbers_of, wish)  # of the still: meanwhile
    computed(task, missing,
             lambda give, k: give(compute_frame, task.document, replace(wish, clip_s=seconds[k])),
             lambda k, codes: store_part(places[k], codes), runs=True)

    def frames() -> Iterator[NDArray[np.uint8]]:
        for place in places:
            task.progress.beat("putting the film together")
            yield np.load(place)

    path = task.prints / f"{task.name}.webm"
    rate = task.sky.motion.fps
    count = write_film(path, frames(), size, rate)
    return with_sidecar(task, [path], numbers(), [], {
        "projection": "rectilinear", "bits": "8", "colour_space": "BT.709 video",
        "frames": count, "frames_a_second": rate, "length_s": task.sky.motion.length_s})


def frames(task: Task) -> list[Path]:
    """Numbered pictures and the sidecar."""
    order, wish, sky = task.order, task.wish(), task.sky
    form, bits = printed()[order.format]
    seconds, ending = seconds_of(sky), form.extensions[0]
    held = [task.parts / f"frame-{k:05d}{ending}" for k in range(len(seconds))]
    _count(task, len(seconds), missing := [k for k, x in enumerate(held) if not x.exists()])

    numbers = task.counted(numbers_of, wish)
    linear = bits in form.linear

    def keep(k: int, rendered: tuple[NDArray[np.float32], Metered]) -> None:
        light, metered = rendered
        if linear:  # one white for all, whatever the film would do along the clip
            metered = numbers()[1]
        developing = Developing(*metered, bits, "exposed", order.ground != "on", order.primaries)
        write_picture(held[k], light, developing,
                      header=header_of(sky_at(sky, seconds[k]), metered))

    computed(task, missing,
             lambda give, k: give(compute_light, task.document, replace(wish, clip_s=seconds[k])),
             keep, runs=True)
    paths = [task.prints / f"{task.name}-{k:05d}{ending}" for k in range(len(held))]
    done: list[Path] = []
    try:
        for k, (there, path) in enumerate(zip(held, paths, strict=True)):
            path.unlink(missing_ok=True)
            path.hardlink_to(there)  # the parts go when the print is done
            done.append(paths[k])
        sun, metered, light = numbers()
        return with_sidecar(task, paths, (sun, metered, light), [], {
            "projection": "rectilinear", "bits": bits, "frames": len(paths),
            "primaries": order.primaries if linear else "sRGB",
            "white_cd_m2": white_luminance(metered.ev) if linear else None,
            "colour_space": f"linear {PRIMARIES[order.primaries].title}" if linear else "sRGB",
            "frames_a_second": sky.motion.fps, "length_s": sky.motion.length_s})
    except OSError:
        for path in done:
            path.unlink(missing_ok=True)
        raise


def _count(task: Task, total: int, missing: list[int]) -> None:
    task.progress.total, task.progress.done = total, total - len(missing)
    task.progress.beat()
