"""What commands share: skies read, sizes, words for bad input, a progress bar."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterable
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any

import click

from dovrek.settings import Settings, settings_from_environment
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.reading import BYTES_LIMIT, sky_from_text


class BadInput(click.ClickException):
    """Exit status 2 with one line on standard error."""

    exit_code = 2

    def show(self, file: Any = None) -> None:
        click.echo(f"dovrek: {self.message}", err=True)


def read_sky(source: str) -> Sky:
    """A sky from a file, standard input or the store. Raises BadInput."""
    try:
        if source == "-":
            return sky_from_text(sys.stdin.buffer.read(BYTES_LIMIT + 1))
        path = Path(source)
        if path.suffix.lower() == ".json" or path.exists():
            with path.open("rb") as file:
                if file.read(4) == b"PK\x03\x04":
                    return _of_archive(path)
                file.seek(0)
                return with_maps(sky_from_text(file.read(BYTES_LIMIT + 1)), path.parent)
        settings = settings_or_refusal()
        if settings.database.exists():
            from dovrek.store import skies
            from dovrek.store.migrations import NewerStore
            from dovrek.store.tables import open_database

            try:
                with open_database(settings.database).connection_context():
                    return skies.load(source)[0]
            except (NewerStore, skies.UnreadableSky) as error:
                raise BadInput(f"SKY: {error}") from None
        raise BadInput(f"SKY: there is no file or stored sky '{source}'; give a path to a sky "
                       "JSON file")
    except SkyError as error:
        raise BadInput(str(error)) from None
    except OSError as error:
        raise BadInput(f"SKY: {source} cannot be read ({error.strerror}); check the path") from None
    except LookupError as error:
        raise BadInput(f"SKY: {error.args[0]}") from None


def _of_archive(path: Path) -> Sky:
    from dovrek.formats import assets

    with path.open("rb") as file:
        try:
            return assets.unpacked(file.read(assets.ARCHIVE_MOST + 1))
        except assets.AssetError as error:
            raise BadInput(f"SKY: {path.name}: {error}") from None


def at_moment(sky: Sky, moment: str | None) -> Sky:
    """The sky at another ISO date and time, if one is given. Raises BadInput."""
    from dovrek.sky.changes import with_values

    if moment is None:
        return sky
    try:
        return with_values(sky, {"moment": moment})
    except SkyError as error:
        raise BadInput(str(error)) from None


def with_maps(sky: Sky, folder: Path) -> Sky:
    """The sky with the pictures it names by path taken in. Raises BadInput."""
    from dovrek.formats import assets

    try:
        return assets.taken_in(sky, assets.beside(folder))
    except assets.AssetError as error:
        raise BadInput(str(error)) from None


def parse_size(text: str) -> tuple[int, int]:
    """`WxH` in pixels. Raises BadInput."""
    from dovrek.core.picture.studio import SIDE_LIMIT

    width, _, height = text.lower().partition("x")
    if not (width.isdigit() and height.isdigit()):
        raise BadInput(f"--size: '{text}' is not a size; write it like 1920x1080")
    w, h = int(width), int(height)
    if not (16 <= w <= SIDE_LIMIT and 16 <= h <= SIDE_LIMIT):
        raise BadInput(f"--size: {w}x{h} is outside 16 to {SIDE_LIMIT} pixels a side; "
                       "choose a smaller or larger one")
    return w, h


def explained(told: Iterable[tuple[str, str]]) -> None:
    """Say on standard error what set what, a line each."""
    for what, text in told:
        click.echo(f"{what}: {text}", err=True)


def emit(data: Any) -> None:
    click.echo(json.dumps(data, indent=1, ensure_ascii=False))


class ViewName(click.ParamType):  # type: ignore[type-arg]
    """The name of a view; the views are not loaded to list the commands."""

    name = "view"
    said = "What is seen: the picture unless set; a name that is none lists them all."

    def convert(self, value: Any, param: Any, ctx: Any) -> str:
        from dovrek.core.geometry.views import OFFERED

        if value not in OFFERED:
            self.fail(f"'{value}' is no view; use one of {', '.join(OFFERED)}", param, ctx)
        return str(value)


def progress_bar(quiet: bool, title: str) -> AbstractContextManager[Callable[[int, int], None]]:
    """A progress bar on a terminal, silence elsewhere."""
    if quiet or not sys.stderr.isatty():
        return nullcontext(lambda done, total: None)
    from contextlib import contextmanager

    from rich.console import Console
    from rich.progress import Progress

    @contextmanager
    def bar() -> Any:
        with Progress(console=Console(stderr=True)) as shown:
            task = shown.add_task(title, total=None)
            yield lambda done, total: shown.update(task, completed=done, total=total)

    return bar()


def settings_or_refusal() -> Settings:
    try:
        return settings_from_environment()
    except ValueError as error:
        raise BadInput(str(error)) from None
