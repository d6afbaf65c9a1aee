"""A picture through the lens, with its passes, and its sidecar."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from dovrek.core.air.sun_place import Place
from dovrek.core.colour.primaries import PRIMARIES
from dovrek.core.picture.render import Metered
from dovrek.formats.bands import Band, Banded
from dovrek.formats.exr_header import header_of
from dovrek.formats.kinds import openexr, printed
from dovrek.formats.kinds.format import Contents, Developing, white_of
from dovrek.formats.pictures import write_bands
from dovrek.prints.makers.task import Task, laid_over, pictured, with_sidecar
from dovrek.prints.parts import numbers_of
from dovrek.sky.seen import layers_of, owners_of


def backplate(task: Task) -> list[Path]:
    """All files, the picture first."""
    order, wish, sky = task.order, task.wish(), task.sky
    found: list[Callable[[], tuple[Place, Metered, dict[str, Any]]]] = []
    stored = pictured(task, wish, between=lambda: found.append(task.counted(numbers_of, wish)))
    numbers = found[0]()
    form, bits = printed()[order.format]
    path = task.prints / f"{task.name}{form.extensions[0]}"
    metered = numbers[1]
    laid_over(task, stored, wish, metered)
    developing = Developing(*metered, bits, "exposed", order.ground != "on", order.primaries)
    shown = owners_of(x.id for x in layers_of(sky))

    def bands() -> Iterator[Band]:
        for band in stored.bands(wish.settings.samples, len(shown)):
            task.progress.beat("writing the file")
            yield band

    picture, files = Banded(order.height, order.width, bands), [path]
    header = header_of(sky, metered)
    try:
        notes = write_bands(path, picture, developing, order.passes == "all", shown, header)
        if order.passes == "files":
            files += openexr.write_passes(task.prints, task.name, Contents(
                picture, developing, bits, True, shown, header))
    except BaseException:
        for written in files:
            written.unlink(missing_ok=True)
        raise
    linear = bits in form.linear
    return with_sidecar(task, files, numbers, notes, {
        "projection": "rectilinear", "bits": bits, "ground": order.ground,
        "passes": order.passes, "primaries": order.primaries if linear else "sRGB",
        "white_cd_m2": white_of(developing) if linear else None,
        "colour_space": f"linear {PRIMARIES[order.primaries].title}" if linear else "sRGB"})


