"""`dovrek forecast`: what a render or a volume will take."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dovrek.commands.shared import BadInput, ViewName, emit, parse_size, read_sky
from dovrek.commands.volume import EXTENT_LIMITS_M, VOXEL_LIMITS_M

if TYPE_CHECKING:
    from dovrek.core.picture.studio import Studio
    from dovrek.sky.document import Sky

ROWS = 3  # of a volume's towers that are filled and timed
LEAF_HEAD_BYTES = 129  # of a leaf in the file beside its values


@click.command()
@click.argument("sky")
@click.option("--size", default=None, help="WxH pixels of a render; 960x540 unless set.")
@click.option("--quality", type=click.Choice(["draft", "proof", "final"]), default="final")
@click.option("--view", type=ViewName(), default="picture", help=ViewName.said)
@click.option("--format", "extension", default=".png", help="Ending of the file, like .exr.")
@click.option("--bits", type=click.Choice(["8", "16", "half", "float"]), default=None)
@click.option("--passes", is_flag=True, help="With the passes of an OpenEXR file.")
@click.option("--voxel", "voxel_m", type=float, default=None, metavar="METRES",
              help="Of a volume instead, with --extent.")
@click.option("--extent", "extent_m", type=float, default=None, metavar="METRES")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def forecast(sky: str, size: str | None, quality: str, view: str, extension: str,
             bits: str | None, passes: bool, voxel_m: float | None, extent_m: float | None,
             threads: int, as_json: bool) -> None:
    """Seconds, memory and file size that a render of SKY will take, from pieces of it."""
    document = read_sky(sky)
    from dovrek.core.picture.studio import Studio

    studio = Studio(threads)
    try:
        if (voxel_m is None) != (extent_m is None):
            raise BadInput("--voxel, --extent: a volume needs both")
        if voxel_m is not None and extent_m is not None:
            found = _volume(document, voxel_m, extent_m, studio)
        else:
            found = _render(document, size, quality, view, extension, bits, passes, studio)
    finally:
        studio.close()
    if as_json:
        emit(found)
        return
    seconds = found["seconds"]
    click.echo(f"{seconds['expected']:.0f} s ({seconds['low']:.0f} to {seconds['high']:.0f}), "
               f"{found['peak_memory_mb']:,.0f} MB of memory, file {found['file_mb']:,.1f} MB")
    for word, more in (("twice the size", "doubled"), ("half the voxel", "halved_voxel")):
        if more in found:
            click.echo(f"{word}: {found[more]['seconds']:.0f} s, "
                       f"{found[more]['file_mb']:,.1f} MB")


def _render(document: Sky, size: str | None, quality: str, view: str, extension: str,
            bits: str | None, passes: bool, studio: Studio) -> dict[str, Any]:
    import numpy as np

    from dovrek.core.geometry.views import OFFERED
    from dovrek.core.picture.forecast import forecast as reckon
    from dovrek.core.picture.studio import Wish
    from dovrek.core.run.workers import Cancel
    from dovrek.core.transport.passes import PASSES
    from dovrek.formats.kinds.format import Developing
    from dovrek.formats.pictures import FormatError, bits_for, write_picture

    name = Path(f"x{extension if extension.startswith('.') else '.' + extension}")
    try:
        depth = bits_for(name, bits)
    except FormatError as error:
        raise BadInput(str(error)) from None
    seen = OFFERED[view]
    width, height = parse_size(size) if size else (
        seen.width, max(16, round(seen.width / seen.aspect(document.camera))))
    wish = Wish(width, height, quality, view, passes=passes)
    found = reckon(document, wish, studio, Cancel())
    # How large the file gets: the pieces themselves, written.
    sheet = np.concatenate(found.pieces, axis=0)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / name.name
        write_picture(path, sheet, Developing(*found.metered, depth))
        share = path.stat().st_size / (sheet.shape[0] * sheet.shape[1])
    if passes:
        share *= 1.0 + PASSES / 3.0 * 0.5  # many of them are empty (measured)
    file_bytes = share * width * height
    return {
        "size": [width, height], "view": view, "quality": quality,
        "seconds": {"expected": found.seconds, "low": found.low_s, "high": found.high_s,
                    "build": found.build_s, "march": found.march_s},
        "peak_memory_mb": found.peak_bytes / 2**20, "file_mb": file_bytes / 2**20,
        "doubled": {"seconds": found.build_s + 4.0 * found.march_s,
                    "file_mb": 4.0 * file_bytes / 2**20}}


def _volume(document: Sky, voxel_m: float, extent_m: float, studio: Studio) -> dict[str, Any]:
    from dovrek.core.prepare.fineness import FINE
    from dovrek.core.run.workers import Cancel
    from dovrek.core.volume.voxels import BLOCK, TOWER, box_of, filled

    for name, value, (low, high) in (("voxel", voxel_m, VOXEL_LIMITS_M),
                                     ("extent", extent_m, EXTENT_LIMITS_M)):
        if not low <= value <= high:
            raise BadInput(f"--{name}: {value:g} m is refused; give {low:g} to {high:g} m")
    cancel, start = Cancel(), time.perf_counter()
    bodies = studio.preparer.bodies(document, FINE, cancel)
    build = time.perf_counter() - start
    voxels, seconds, active, leaves = 0, 0.0, 0.0, 0.0
    for body in bodies:
        box = box_of(body, voxel_m, extent_m)
        voxels += box.voxels
        nx, ny, nz = box.blocks
        rows = -(-nx // TOWER)
        some = min(ROWS, rows)
        filled(body, box._replace(blocks=(TOWER, min(ny, TOWER), nz)), studio.workers, cancel)
        began, seen, there = time.perf_counter(), 0.0, 0
        for k in range(some):  # rows of towers, spread over the box
            at = int((k + 0.5) * rows / some)
            piece = box._replace(x=box.x + at * TOWER * BLOCK * voxel_m,
                                 blocks=(min(TOWER, nx), ny, nz))
            blocks = filled(body, piece, studio.workers, cancel)
            seen += float((blocks.values > 0.0).sum())
            there += len(blocks.places)
        took = time.perf_counter() - began
        # One row is one thread's work; a whole box keeps all of them busy.
        seconds += took / some * rows / min(studio.workers.threads, rows)
        active += seen / some * rows
        leaves += there / some * rows
    file_bytes = 4.0 * active + LEAF_HEAD_BYTES * leaves
    memory = 300e6 + leaves * 2048.0 * 2.2
    return {
        "voxel_m": voxel_m, "extent_m": extent_m, "voxels": voxels,
        "seconds": {"expected": build + seconds, "low": build + 0.75 * seconds,
                    "high": build + 1.35 * seconds, "build": build, "fill": seconds},
        "peak_memory_mb": memory / 2**20, "file_mb": file_bytes / 2**20,
        "halved_voxel": {"voxels": 8 * voxels, "seconds": build + 8.0 * seconds,
                         "file_mb": 8.0 * file_bytes / 2**20}}
