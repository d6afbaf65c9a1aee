"""What an order will take: reckoned from pieces of it, corrected by this machine's last prints."""

from __future__ import annotations

import math
import shutil
import statistics
import time
from dataclasses import dataclass, replace
from pathlib import Path

from dovrek.core.picture.clip import seconds_of
from dovrek.core.picture.forecast import SCENE_BYTES, forecast
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.passes import PASSES
from dovrek.core.transport.sample import OUT
from dovrek.core.volume.forecast import HIGH, LOW, volume_forecast
from dovrek.formats.foretold import picture_bytes
from dovrek.formats.kinds import printed
from dovrek.sky.document import Sky
from dovrek.store.orders import (
    DOME,
    FACES_SHARE,
    FILM,
    SIDE_LIMIT,
    VOLUME,
    Order,
    OrderError,
    refuse_voxels,
)

THREADS = 2  # of the workers that print
PRINTS_ENOUGH, PRINTS_ALIKE = 5, 3
NUMBERS_S = 1.5  # of what a sidecar says of the light (measured)
DOME_S = 6.0  # of a dome's lights and its proof: a guess that prints correct
STEP_PX = 16
BANDS_BYTES = 60e6  # of a picture's rows on their way to the file


@dataclass(frozen=True)
class Foretold:
    """Seconds with their range, and bytes, of an order."""

    seconds: float
    low_s: float
    high_s: float
    memory_bytes: float
    file_bytes: float
    build_s: float = 0.0
    more: tuple[tuple[str, float, float], ...] = ()  # what it would be instead, seconds, bytes
    raw_s: float = 0.0  # before this machine's prints corrected it


def foretell(sky: Sky, order: Order, studio: Studio, cancel: Cancel, build_s: float = 0.0
             ) -> Foretold:
    """What an order takes on THREADS threads; `build_s` is what its scene took when it was built
    last, as far as that is known. Raises Cancelled, OrderError."""
    if order.kind == VOLUME:
        return _volume(sky, order, studio, cancel, build_s)
    wish = wish_of(order)
    if order.is_clip:
        return _clip(sky, order, wish, studio, cancel, build_s)
    found = forecast(sky, wish, studio, cancel)
    build = max(found.build_s, build_s)
    march = found.march_s * studio.workers.threads / THREADS
    _, bits = printed()[order.format]
    ending = Path("x" + printed()[order.format][0].extensions[0])
    size = picture_bytes(found, wish, ending, bits)
    if order.faces == "six":  # six squares of a share of the width each, beside the dome
        more = 6.0 * (order.width // FACES_SHARE) ** 2 / (order.width * order.height)
        march, size = march * (1.0 + more), size * (1.0 + more)
    spread = (found.high_s - found.low_s) / max(found.high_s + found.low_s, 1e-6)
    seconds = build + march + NUMBERS_S + (DOME_S if order.kind == DOME else 0.0)
    return Foretold(seconds, seconds * (1.0 - spread), seconds * (1.0 + spread),
                    memory_of(order, len(sky.layers)), size, build,
                    (("twice the size", seconds + 3.0 * march, 4.0 * size),
                     ("half the size", seconds - 0.75 * march, 0.25 * size)), seconds)


def _clip(sky: Sky, order: Order, wish: Wish, studio: Studio, cancel: Cancel, build_s: float
          ) -> Foretold:
    """Frames: one from the middle is built and marched in pieces, after the first scene."""
    seconds = seconds_of(sky)
    start = time.perf_counter()
    studio.prepare(sky, replace(wish, clip_s=seconds[0]), cancel)
    build = max(time.perf_counter() - start, build_s)
    found = forecast(sky, replace(wish, clip_s=seconds[len(seconds) // 2]), studio, cancel)
    each = found.build_s + found.march_s * studio.workers.threads / THREADS
    whole, count = build + each * len(seconds), len(seconds)
    spread = (found.high_s - found.low_s) / max(found.high_s + found.low_s, 1e-6)
    if order.kind == FILM:
        size = 0.25 * wish.width * wish.height * math.sqrt(count)  # bytes a pixel: a rough guess
    else:
        form, bits = printed()[order.format]
        size = count * picture_bytes(found, wish, Path("x" + form.extensions[0]), bits)
    return Foretold(whole, whole * (1.0 - spread), whole * (1.0 + spread),
                    memory_of(order, len(sky.layers)), size, build,
                    (("twice the size", build + 4.0 * each * count, 4.0 * size),), whole)


def _volume(sky: Sky, order: Order, studio: Studio, cancel: Cancel, build_s: float) -> Foretold:
    found = volume_forecast(sky, order.voxel_m, order.extent_m, studio.preparer, cancel,
                            order.layer, order.rain == "yes")
    if not found.grids:
        raise OrderError("layer: no layer that is shown has cloud; nothing would be in the volume")
    refuse_voxels(order, found.largest)
    start = time.perf_counter()  # its sidecar tells the light of the whole sky
    studio.prepare(sky, wish_of(order), cancel)
    build = found.build_s + max(time.perf_counter() - start, build_s) + NUMBERS_S
    fill = found.fill_s * studio.workers.threads / THREADS
    if order.is_volumes:
        count = len(seconds_of(sky))
        build, fill = build + (count - 1) * found.build_s, count * fill
        found = found._replace(file_bytes=count * found.file_bytes)
    return Foretold(build + fill, build + LOW * fill, build + HIGH * fill, found.peak_bytes,
                    found.file_bytes, build,
                    (("half the voxel", build + 8.0 * fill, 8.0 * found.file_bytes),
                     ("twice the voxel", build + fill / 8.0, found.file_bytes / 8.0)), build + fill)


def learned(found: Foretold, lately: list[tuple[str, float, float]], kind: str) -> Foretold:
    """A forecast as this machine's last prints correct it: kind, foretold and real seconds of each;
    those of the same kind alone once there are a few. The range is that of the prints once there
    are enough of them."""
    ratios = sorted(real / foretold for _, foretold, real in lately)
    alike = sorted(real / foretold for other, foretold, real in lately if other == kind)
    if len(alike) >= PRINTS_ALIKE:
        ratios = alike
    if not ratios:
        return found
    factor = statistics.median(ratios)
    low, high = found.low_s * factor, found.high_s * factor
    if len(ratios) >= PRINTS_ENOUGH:
        edge = max(len(ratios) // 10, 0)
        low = found.raw_s * min(ratios[edge], 0.9 * factor)
        high = found.raw_s * max(ratios[-1 - edge], 1.1 * factor)
    return replace(found, seconds=found.seconds * factor, low_s=low, high_s=high,
                   more=tuple((said, s * factor, size) for said, s, size in found.more))


def wish_of(order: Order) -> Wish:
    """The picture that an order asks for."""
    if order.kind == DOME:
        return Wish(order.width, order.height, order.quality, "dome", False, True, order.centre)
    if order.kind == VOLUME:  # its sidecar's numbers alone
        return Wish(64, 36, "draft")
    return Wish(order.width, order.height, order.quality, "picture", True, order.ground != "off",
                passes=order.passes != "none", land=order.ground == "on",
                sky=order.ground != "clouds")


def memory_of(order: Order, layers: int) -> float:
    """Peak bytes of a picture's print: the scene, and the file's own channels where its format
    holds them whole."""
    form, bits = printed().get(order.format, (None, ""))
    pixels = order.width * order.height
    whole = 0.0
    if form is not None and form.name == "exr":
        channels = 3 + (14 + layers if order.passes != "none" else 0)
        whole = pixels * channels * (2.0 if bits == "half" else 4.0) * 1.25
    elif form is not None and form.name == "tiff":
        whole = pixels * 3 * ({"8": 1.0, "16": 2.0}.get(bits, 4.0) * 1.5)
    elif form is not None and form.name == "jpeg":
        whole = pixels * 3 * 2.0
    elif order.kind == FILM:
        whole = pixels * 8.0
    return SCENE_BYTES + BANDS_BYTES + whole


def disk_of(order: Order, sky: Sky) -> float:
    """Bytes on disk at the most while a print is made: its parts and its files."""
    if order.kind == VOLUME:
        return 0.0  # known once its cloud is looked at
    pixels = order.width * order.height
    if order.kind == FILM:
        return 3.5 * pixels * len(seconds_of(sky))
    if order.is_clip:
        return 12.0 * pixels * len(seconds_of(sky))
    depth = OUT + (PASSES if order.passes != "none" else 0)
    return pixels * (4.0 * depth + 12.0 + 12.0 + (160.0 if depth > OUT else 0.0))


def check_room(order: Order, sky: Sky, folder: Path) -> None:
    """Refuse what the disk cannot take. Raises OrderError naming the nearest that can."""
    need, free = disk_of(order, sky), shutil.disk_usage(folder).free
    if need <= free:
        return
    fits = int(order.width * math.sqrt(max(free, 0.0) / need)) // STEP_PX * STEP_PX
    mend = (f"give a width of {min(fits, SIDE_LIMIT)} px or less, or free some space"
            if fits >= STEP_PX else "free some space")
    raise OrderError(f"width: a print of {order.width} × {order.height} needs "
                     f"{need / 1e9:.1f} GB of disk for a while, and {max(free, 0.0) / 1e9:.1f} GB "
                     f"are free; {mend}")
