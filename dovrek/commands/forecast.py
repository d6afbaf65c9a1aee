"""`dovrek forecast`: what a render or a volume will take."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dovrek.commands.shared import BadInput, ViewName, emit, parse_size, read_sky
from dovrek.commands.volume import EXTENT_LIMITS_M, VOXEL_LIMITS_M

if TYPE_CHECKING:
    from dovrek.core.picture.studio import Studio
    from dovrek.sky.document import Sky


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
    from dovrek.core.geometry.views import OFFERED
    from dovrek.core.picture.forecast import forecast as reckon
    from dovrek.core.picture.studio import Wish
    from dovrek.core.run.workers import Cancel
    from dovrek.formats.foretold import picture_bytes
    from dovrek.formats.pictures import FormatError, bits_for

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
    file_bytes = picture_bytes(found, wish, name, depth)
    return {
        "size": [width, height], "view": view, "quality": quality,
        "seconds": {"expected": found.seconds, "low": found.low_s, "high": found.high_s,
                    "build": found.build_s, "march": found.march_s},
        "peak_memory_mb": found.peak_bytes / 2**20, "file_mb": file_bytes / 2**20,
        "doubled": {"seconds": found.build_s + 4.0 * found.march_s,
                    "file_mb": 4.0 * file_bytes / 2**20}}


def _volume(document: Sky, voxel_m: float, extent_m: float, studio: Studio) -> dict[str, Any]:
    from dovrek.core.run.workers import Cancel
    from dovrek.core.volume.forecast import HIGH, LOW, volume_forecast

    for name, value, (low, high) in (("voxel", voxel_m, VOXEL_LIMITS_M),
                                     ("extent", extent_m, EXTENT_LIMITS_M)):
        if not low <= value <= high:
            raise BadInput(f"--{name}: {value:g} m is refused; give {low:g} to {high:g} m")
    found = volume_forecast(document, voxel_m, extent_m, studio.preparer, Cancel())
    build, fill = found.build_s, found.fill_s
    return {
        "voxel_m": voxel_m, "extent_m": extent_m, "voxels": found.voxels,
        "seconds": {"expected": found.seconds, "low": build + LOW * fill,
                    "high": build + HIGH * fill, "build": build, "fill": fill},
        "peak_memory_mb": found.peak_bytes / 2**20, "file_mb": found.file_bytes / 2**20,
        "halved_voxel": {"voxels": 8 * found.voxels, "seconds": build + 8.0 * fill,
                         "file_mb": 8.0 * found.file_bytes / 2**20}}
