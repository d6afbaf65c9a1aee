"""`dovrek metar`: a sky from a weather report."""

from __future__ import annotations

import sys

import click

from dovrek.commands.shared import BadInput, emit, explained, read_sky
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError


@click.command()
@click.argument("text")
@click.option("--place", default=None, metavar="SKY",
              help="A sky whose site, camera, month and year are taken.")
@click.option("--hour", type=click.IntRange(0, 23), default=None,
              help="Of a forecast (TAF), UTC; its first unless set.")
@click.option("--day", type=click.IntRange(1, 31), default=None, help="Of that hour.")
@click.option("--explain", is_flag=True, help="Say on standard error what each group set.")
def metar(text: str, place: str | None, hour: int | None, day: int | None, explain: bool) -> None:
    """Print the sky of a METAR or of a TAF's hour as JSON; - reads standard input."""
    from dovrek.sky.reading import sky_to_data
    from dovrek.weather.report import BYTES_LIMIT, WeatherError, read_report
    from dovrek.weather.sky_of import sky_of_report

    if text == "-":
        text = sys.stdin.read(BYTES_LIMIT + 1)
    base = read_sky(place) if place is not None else Sky()
    try:
        report = read_report(text, hour, day)
        sky, told = sky_of_report(report, base)
    except (WeatherError, SkyError) as error:
        raise BadInput(str(error)) from None
    emit(sky_to_data(sky))
    if explain:
        explained((line.group, line.text) for line in told)
        explained((group, "not known, left out") for group in report.unknown)
