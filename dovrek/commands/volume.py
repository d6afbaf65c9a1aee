"""`dovrek volume`: layers as OpenVDB fog volumes, still or along the motion."""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dovrek.commands.shared import BadInput, emit, progress_bar, read_sky

if TYPE_CHECKING:
    from dovrek.core.picture.studio import Studio
    from dovrek.sky.document import Sky

VOXEL_LIMITS_M, EXTENT_LIMITS_M = (1.0, 2000.0), (100.0, 200_000.0)
VOXELS_MOST = 4_000_000_000
FILE = ".vdb"


@click.command()
@click.argument("sky")
@click.option("--layer", "layers", multiple=True, metavar="ID",
              help="Of which layer (ID~heroes: its clouds placed by hand; fog); several give a "
                   "grid each. All that are shown unless set.")
@click.option("--voxel", "voxel_m", type=float, required=True, metavar="METRES",
              help="Side of a cube.")
@click.option("--extent", "extent_m", type=float, required=True, metavar="METRES",
              help="Side of the square about the camera's foot.")
@click.option("--east", type=float, default=0.0, help="The square's middle, metres east.")
@click.option("--north", type=float, default=0.0, help="The square's middle, metres north.")
@click.option("--rain", is_flag=True, help="With the rain that falls from the layers.")
@click.option("--clip", "clip_s", type=float, default=None, metavar="SECONDS",
              help="As the layers are at that second of the clip.")
@click.option("--fps", type=float, default=None,
              help="A sequence along the clip into the folder --output.")
@click.option("-o", "--output", required=True, type=click.Path(path_type=Path),
              help="A file that ends in .vdb; with --fps a folder.")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def volume(sky: str, layers: tuple[str, ...], voxel_m: float, extent_m: float, east: float,
           north: float, rain: bool, clip_s: float | None, fps: float | None, output: Path,
           threads: int, as_json: bool) -> None:
    """Layers of SKY as OpenVDB fog volumes `density` (1/m), z up, in metres from the camera's
    foot."""
    from dovrek.sky.seen import layers_of, unwashed

    document = unwashed(read_sky(sky))
    for name, value, (low, high) in (("voxel", voxel_m, VOXEL_LIMITS_M),
                                     ("extent", extent_m, EXTENT_LIMITS_M)):
        if not low <= value <= high:
            raise BadInput(f"--{name}: {value:g} m is refused; give {low:g} to {high:g} m")
    known = {x.id for x in layers_of(document)}
    for layer in layers:
        if layer not in known:
            raise BadInput(f"--layer: there is no cloud of a layer '{layer[:60]}'; use one of "
                           f"{', '.join(sorted(known)) or 'none: the sky is clear'}")
    if not known:
        raise BadInput("SKY: no layer that is shown has cloud; nothing would be in the volume")
    length = document.motion.length_s
    if clip_s is not None and not 0.0 <= clip_s <= length:
        raise BadInput(f"--clip: {clip_s:g} s is refused; give 0 to {length:g} s")
    if fps is not None and not 0.01 <= fps <= 120.0:
        raise BadInput(f"--fps: {fps:g} is refused; give 0.01 to 120 volumes a second")
    if fps is None and output.suffix.lower() != FILE:
        raise BadInput(f"--output: '{output.name}' is no volume; end it in {FILE}")
    folder = output if fps is not None else output.parent
    try:
        folder.mkdir(parents=fps is not None, exist_ok=True)
    except OSError as error:
        raise BadInput(f"--output: {folder} cannot be made ({error.strerror}); choose another "
                       "folder") from None
    if not os.access(folder, os.W_OK):
        raise BadInput(f"--output: {folder} cannot be written; choose another folder")
    from dovrek.core.picture.clip import seconds_of
    from dovrek.core.picture.studio import Studio

    seconds: list[float | None] = [clip_s]
    if fps is not None:
        seconds = [*seconds_of(document, fps, 0.0, length)]
    studio, start = Studio(threads), time.monotonic()
    told: list[list[dict[str, Any]]] = []
    try:
        for number, second in enumerate(seconds):
            path = output if fps is None else output / f"volume-{number:05d}{FILE}"
            if fps is not None and path.exists():
                continue
            told.append(_one(studio, document, layers, voxel_m, extent_m, (east, north), rain,
                             second, path, as_json))
    except OSError as error:
        raise BadInput(f"--output: {output} takes no more ({error.strerror or error}); what was "
                       "written so far stays: free some space and give the same command again"
                       ) from None
    finally:
        studio.close()
    result: dict[str, Any] = {"file": str(output), "volumes": len(seconds), "made": len(told),
              "grids": told[-1] if told else [], "voxel_m": voxel_m,
              "seconds": round(time.monotonic() - start, 2)}
    if as_json:
        emit(result)
    else:
        click.echo(f"{output}  {len(told)} of {len(seconds)}  {result['seconds']:.1f} s")
        for grid in result["grids"]:
            click.echo(f"  {grid['name']}: {grid['voxels']:,} voxels, {grid['active']:,} in cloud")


def _one(studio: Studio, sky: Sky, layers: tuple[str, ...], voxel_m: float, extent_m: float,
         centre: tuple[float, float], rain: bool, clip_s: float | None, path: Path,
         quiet: bool) -> list[dict[str, Any]]:
    """One file; what its grids hold."""
    import numpy as np

    from dovrek.core.prepare.fineness import FINE
    from dovrek.core.prepare.moments import moment_of
    from dovrek.core.run.workers import Cancel
    from dovrek.core.volume.voxels import BLOCK_BYTES, box_of, filled
    from dovrek.formats.openvdb import Volume, grid_name, write_volumes

    cancel, moved = Cancel(), None
    if clip_s is not None:
        now = moment_of(sky, clip_s)
        sky, moved = now.sky, now.moved
    bodies = [b for b in studio.preparer.bodies(sky, FINE, cancel, moved)
              if not layers or b.layer.id in layers]
    boxes = [box_of(b, voxel_m, extent_m, centre, rain) for b in bodies]
    most = max(box.voxels for box in boxes)
    if most > VOXELS_MOST:
        fits = voxel_m * (most / VOXELS_MOST) ** (1 / 3)
        raise BadInput(f"--voxel: {most:,} voxels are more than {VOXELS_MOST:,}; give --voxel "
                       f"{fits:.1f} or a smaller --extent")
    grids, told = [], []
    for body, box in zip(bodies, boxes, strict=True):
        with progress_bar(quiet, body.layer.name or body.layer.id) as progress:
            blocks = filled(body, box, studio.workers, cancel, progress, rain)
        name = "density" if len(bodies) == 1 else f"density_{grid_name(body.layer.id)}"
        grids.append(Volume(name, voxel_m, (box.x, box.y, box.z), *blocks, {
            "layer": body.layer.name or body.layer.id, "genus": body.layer.genus,
            "axes": "x east, y north, z up, metres from the camera's foot"}))
        told.append({"name": name, "layer": body.layer.id, "voxels": box.voxels,
                     "active": int(np.count_nonzero(blocks.values)),
                     "blocks": len(blocks.places),
                     "megabytes": round(len(blocks.places) * BLOCK_BYTES / 2**20, 1)})
    write_volumes(path, grids, {"sky": sky.name})
    return told
