"""`dovrek dome`: a dome with lights, sidecar and proof of lighting in one go."""

from __future__ import annotations

import os
import re
import time
from pathlib import Path

import click

from dovrek.commands.shared import BadInput, at_moment, emit, parse_size, progress_bar, read_sky

NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9 ._-]{0,79}")
FACE_LIMITS = (16, 8192)


def plain_name(name: str) -> str:
    """A sky's name as that of a file."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:60] or "sky"


@click.command()
@click.argument("sky")
@click.option("-o", "--output", required=True, type=click.Path(path_type=Path, file_okay=False),
              help="Folder for the files.")
@click.option("--name", default=None, help="Of the files; the sky's own unless set.")
@click.option("--size", default="4096x2048", help="WxH pixels, twice as wide as high.")
@click.option("--quality", type=click.Choice(["draft", "proof", "final"]), default="final")
@click.option("--sun", type=click.Choice(["apart", "in"]), default="apart",
              help="apart: a light of its own beside a dome without it; in: in the dome.")
@click.option("--centre", default=0.0, help="Bearing in the dome's middle, degrees.")
@click.option("--bits", type=click.Choice(["half", "float"]), default=None,
              help="half unless the sun is in the dome.")
@click.option("--scale", type=click.Choice(["exposed", "absolute"]), default="exposed")
@click.option("--primaries", type=click.Choice(["rec709", "ap1"]), default="rec709")
@click.option("--faces", type=int, default=0, metavar="PIXELS",
              help="Six cube faces as well, so many pixels a side.")
@click.option("--at", "moment", default=None, help="ISO date and time instead of the sky's.")
@click.option("--clip", "clip_s", type=float, default=None, metavar="SECONDS",
              help="As the sky is at that second of the clip.")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def dome(sky: str, output: Path, name: str | None, size: str, quality: str, sun: str, centre: float,
         bits: str | None, scale: str, primaries: str, faces: int, moment: str | None,
         clip_s: float | None, threads: int, as_json: bool) -> None:
    """The dome of SKY as OpenEXR with its sun as a light (USD), sidecar and proof of lighting."""
    document = at_moment(read_sky(sky), moment)
    width, height = parse_size(size)
    if width != 2 * height:
        raise BadInput(f"--size: {width}x{height} is no dome; give twice as wide as high, "
                       f"like {2 * height}x{height}")
    if faces and not FACE_LIMITS[0] <= faces <= FACE_LIMITS[1]:
        raise BadInput(f"--faces: {faces} is refused; give {FACE_LIMITS[0]} to {FACE_LIMITS[1]} "
                       "pixels a side")
    if clip_s is not None and not 0.0 <= clip_s <= document.motion.length_s:
        raise BadInput(f"--clip: {clip_s:g} s is refused; give 0 to {document.motion.length_s:g} s")
    depth = bits or ("float" if sun == "in" or scale == "absolute" else "half")
    if scale == "absolute" and depth != "float":
        raise BadInput("--scale: absolute light needs --bits float; half files end at 65,504")
    called = name if name is not None else plain_name(document.name)
    if not NAME.fullmatch(called):
        raise BadInput(f"--name: '{called[:60]}' is no file's name; use letters, digits, dots, "
                       "dashes and blanks, up to 80")
    try:
        output.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise BadInput(f"--output: {output} cannot be made ({error.strerror}); choose another "
                       "folder") from None
    if not os.access(output, os.W_OK):
        raise BadInput(f"--output: {output} cannot be written; choose another folder")
    from dovrek.core.picture.studio import Studio
    from dovrek.core.run.workers import Cancel
    from dovrek.formats.bands import of_frame
    from dovrek.formats.dome_set import DomeOrder, cube_faces, dome_numbers, write_dome_set
    from dovrek.sky.clip import sky_at

    order = DomeOrder(called, width, quality, sun == "in", centre % 360.0, depth, scale, primaries,
                      faces, clip_s)
    studio, start = Studio(threads), time.monotonic()
    try:
        with progress_bar(as_json, called) as progress:
            rendered = studio.render(document, order.wish, progress=progress)
        done, cancel = time.monotonic(), Cancel()
        told = document if clip_s is None else sky_at(document, clip_s)
        numbers = dome_numbers(told, rendered.prepared, rendered.metered, studio, cancel)
        result = write_dome_set(
            output, document, order, of_frame(rendered.light), numbers, studio.workers, cancel,
            rendered.seconds["total"], cube_faces(document, order, studio, cancel))
    except OSError as error:
        raise BadInput(f"--output: {output} takes no more ({error.strerror or error}); free some "
                       "space or choose another folder") from None
    finally:
        studio.close()
    result = {"folder": str(output), "size": [width, height], "quality": quality,
              "seconds": {**rendered.seconds, "files": round(time.monotonic() - done, 2),
                          "all": round(time.monotonic() - start, 2)}, **result}
    if as_json:
        emit(result)
        return
    for file in result["files"]:
        click.echo(str(output / file))
    found = result["illuminance_lux"]
    for face, lux in found["files"].items():
        click.echo(f"  {face:10} {lux:10,.0f} lx by the files, {found['renderer'][face]:10,.0f} "
                   "by the renderer")
