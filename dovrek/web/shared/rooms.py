"""Where each screen's templates, scripts and styles are found: in its own folder."""

from __future__ import annotations

from contextlib import suppress
from functools import lru_cache
from pathlib import Path
from typing import Any

from flask import Flask, abort, request, send_from_directory, url_for
from jinja2 import FileSystemBytecodeCache, FileSystemLoader
from jinja2.bccache import Bucket

from dovrek.core.compile.kernels import FOLDER

WEB = Path(__file__).parent.parent
ROOMS = ("shared", "composer", "compare", "skies", "recipes", "prints", "bin", "guide", "weather")


class Compiled(FileSystemBytecodeCache):
    """Templates as Python beside the compiled kernels, half a second of a start; on a disk that is
    full, or may not be written, each start compiles its own."""

    def dump_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().dump_bytecode(bucket)


def furnish(app: Flask) -> None:
    """Let pages find templates by name, and by `asset(room, name)` their scripts and styles."""
    app.jinja_loader = FileSystemLoader([WEB / room / "templates" for room in ROOMS])
    with suppress(OSError):
        (FOLDER / "templates").mkdir(exist_ok=True)
    app.jinja_env.bytecode_cache = Compiled(str(FOLDER / "templates"))

    @app.get("/static/<room>/<path:name>")
    def static_file(room: str, name: str) -> Any:
        if room not in ROOMS:
            abort(404, "There is no such file.")
        return send_from_directory(WEB / room / "static", name)

    @lru_cache(1024)
    def address(root: str, room: str, name: str) -> str:
        return url_for("static_file", room=room, name=name)

    # Every icon asks for it: a page has a hundred.
    app.jinja_env.globals["asset"] = lambda room, name: address(request.script_root, room, name)
