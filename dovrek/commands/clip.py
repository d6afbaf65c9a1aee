"""`dovrek sequence`: the motion as numbered frames or as a film."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dovrek.commands.shared import BadInput, ViewName, emit, parse_size, progress_bar, read_sky

if TYPE_CHECKING:
    from dovrek.core.picture.studio import Rendered, Wish
    from dovrek.sky.document import Sky

FILM = ".webm"
FRAMES = ("png", "exr", "jpg", "tif")


@click.command()
@click.argument("sky")
@click.option("-o", "--output", required=True, type=click.Path(path_type=Path),
              help="A folder for numbered frames, or a film that ends in .webm.")
@click.option("--format", "kind", type=click.Choice(FRAMES), default="png",
              help="Of numbered frames.")
@click.option("--from", "begin_s", type=float, default=0.0, help="First second of the clip.")
@click.option("--to", "end_s", type=float, default=None, help="Second before which it ends.")
@click.option("--fps", type=float, default=None, help="Frames a second instead of the clip's.")
@click.option("--view", type=ViewName(), default="picture", help=ViewName.said)
@click.option("--size", default=None, help="WxH pixels; 1280x720 unless set.")
@click.option("--quality", type=click.Choice(["draft", "proof", "final"]), default="proof")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
@click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")
def sequence(sky: str, output: Path, kind: str, begin_s: float, end_s: float | None,
             fps: float | None, view: str, size: str | None, quality: str, threads: int,
             as_json: bool) -> None:
    """Render the motion of SKY. Numbered frames that are there already are kept: a sequence that
    was broken off goes on."""
    document = read_sky(sky)
    from dovrek.core.geometry.views import OFFERED
    from dovrek.core.picture.clip import seconds_of
    from dovrek.core.picture.studio import Wish

    length = document.motion.length_s
    end = length if end_s is None else end_s
    if not 0.0 <= begin_s < end <= length:
        raise BadInput(f"--from, --to: {begin_s:g} to {end:g} s is no part of the clip; give two "
                       f"seconds from 0 to {length:g}, the first smaller")
    if fps is not None and not 1.0 <= fps <= 120.0:
        raise BadInput(f"--fps: {fps:g} is refused; give 1 to 120 frames a second")
    shape = OFFERED[view].aspect(document.camera)
    width, height = parse_size(size) if size else (1280, max(2, 2 * round(640 / shape)))
    film = output.suffix.lower() == FILM
    if film and (width % 2 or height % 2):
        raise BadInput(f"--size: {width}x{height} is refused; a film needs even numbers of pixels")
    folder = output.parent if film else output
    try:
        folder.mkdir(parents=not film, exist_ok=True)
    except OSError as error:
        raise BadInput(f"--output: {folder} cannot be made ({error.strerror}); choose another "
                       "folder") from None
    if not os.access(folder, os.W_OK):
        raise BadInput(f"--output: {folder} cannot be written; choose another folder")
    wish = Wish(width, height, quality, view)
    seconds = seconds_of(document, fps, begin_s, end)
    rate, start = fps or document.motion.fps, time.monotonic()
    try:
        with progress_bar(as_json, output.name) as progress:
            made = (_film if film else _frames)(document, wish, seconds, output, threads, kind,
                                                rate, progress)
    except OSError as error:
        raise BadInput(f"--output: {output} takes no more ({error.strerror or error}); the frames "
                       "written so far stay: free some space and give the same command again"
                       ) from None
    result = {"file": str(output), "frames": len(seconds), "rendered": made, "fps": rate,
              "size": [width, height], "quality": quality, "from_s": begin_s, "to_s": end,
              "seconds": round(time.monotonic() - start, 2)}
    if as_json:
        emit(result)
    else:
        click.echo(f"{output}  {len(seconds)} frames  {width}×{height}  {rate:g} a second  "
                   f"{result['seconds']:.1f} s")


def _rendered(sky: Sky, wish: Wish, seconds: list[float], threads: int,
              progress: Any) -> Iterator[Rendered]:
    """Frames, one after another."""
    from dovrek.core.picture.studio import Studio

    studio = Studio(threads)
    try:
        for done, second in enumerate(seconds):
            yield studio.render(sky, replace(wish, clip_s=second))
            progress(done + 1, len(seconds))
    finally:
        studio.close()


def _frames(sky: Sky, wish: Wish, seconds: list[float], output: Path, threads: int, kind: str,
            rate: float, progress: Any) -> int:
    """Numbered files, each whole; those that are there are kept. How many were made."""
    from dovrek.formats.kinds.format import Developing
    from dovrek.formats.pictures import write_picture

    def place(second: float) -> Path:
        return output / f"frame-{round(second * rate):05d}.{kind}"

    missing = [s for s in seconds if not place(s).exists()]
    for second, rendered in zip(missing, _rendered(sky, wish, missing, threads, progress),
                                strict=True):
        write_picture(place(second), rendered.light, Developing(*rendered.metered))
    return len(missing)


def _film(sky: Sky, wish: Wish, seconds: list[float], output: Path, threads: int, kind: str,
          rate: float, progress: Any) -> int:
    """One film, whole or not at all. How many frames were made."""
    import numpy as np

    from dovrek.core.colour.film import develop
    from dovrek.formats.webm import write_film

    frames = (np.asarray(develop(r.light, *r.metered), dtype=np.uint8)
              for r in _rendered(sky, wish, seconds, threads, progress))
    return write_film(output, frames, (wish.width, wish.height), rate)
