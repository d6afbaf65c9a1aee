"""`dovrek epw`: a sky from an hour of an EPW file."""

from __future__ import annotations

import re
from pathlib import Path

import click

from dovrek.commands.shared import BadInput, emit, explained, read_sky
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError


@click.command()
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False))
@click.option("--at", "moment", required=True, metavar="MM-DDThh",
              help="Month, day and hour of the station's clock, like 06-21T14.")
@click.option("--camera", default=None, metavar="SKY",
              help="A sky whose camera and year are taken.")
@click.option("--explain", is_flag=True, help="Say on standard error what each field set.")
@click.option("--compare", is_flag=True,
              help="Compute the sky's illuminances and say how near they come to the file's.")
@click.option("--threads", type=click.IntRange(1, 64), default=2)
def epw(file: Path, moment: str, camera: str | None, explain: bool, compare: bool,
        threads: int) -> None:
    """Print the sky of an hour of FILE as JSON."""
    from dovrek.sky.reading import sky_to_data
    from dovrek.weather.epw import BYTES_LIMIT, hour_at, read_epw
    from dovrek.weather.report import WeatherError
    from dovrek.weather.sky_of import sky_of_record

    found = re.fullmatch(r"(\d\d)-(\d\d)T(\d\d)", moment)
    if found is None:
        raise BadInput(f"--at: '{moment[:30]}' is no hour; write month, day and hour like 06-21T14")
    month, day, hour = (int(part) for part in found.groups())
    base = read_sky(camera) if camera is not None else Sky.model_validate({"dovrek": 1})
    try:
        with file.open("rb") as source:
            station = read_epw(source.read(BYTES_LIMIT + 1).decode("latin-1"))
        record = hour_at(station, month, day, hour)
        sky, told = sky_of_record(station, record, base)
    except OSError as error:
        raise BadInput(f"FILE: {file} cannot be read ({error.strerror}); check the path") from None
    except (WeatherError, SkyError) as error:
        raise BadInput(str(error)) from None
    emit(sky_to_data(sky))
    if explain:
        explained((line.group, line.text) for line in told)
    if compare:
        from dovrek.core.picture.probe import probe
        from dovrek.core.picture.studio import Studio
        from dovrek.core.run.workers import Cancel

        studio = Studio(threads)
        light = probe(sky, studio.preparer, Cancel())
        studio.close()
        direct = light["sky"]["direct_horizontal_lux"]
        for name, ours, theirs in (
                ("diffuse", light["sky"]["diffuse_horizontal_lux"], record.diffuse_lux),
                ("direct on level ground", direct, None if record.global_lux is None
                 or record.diffuse_lux is None else record.global_lux - record.diffuse_lux),
                ("global", light["sky"]["global_horizontal_lux"], record.global_lux)):
            said = "not in the file" if theirs is None else f"{theirs:,.0f} lx in the file"
            click.echo(f"{name}: {ours:,.0f} lx here, {said}", err=True)
