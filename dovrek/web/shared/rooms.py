"""Where each screen's templates, scripts and styles are found: in its own folder."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from flask import Flask, abort, send_from_directory, url_for
from jinja2 import FileSystemLoader

WEB = Path(__file__).parent.parent
ROOMS = ("shared", "composer", "compare", "skies", "recipes", "prints", "bin", "guide", "weather")


def furnish(app: Flask) -> None:
    """Let pages find templates by name, and by `asset(room, name)` their scripts and styles."""
    app.jinja_loader = FileSystemLoader([WEB / room / "templates" for room in ROOMS])

    @app.get("/static/<room>/<path:name>")
    def static_file(room: str, name: str) -> Any:
        if room not in ROOMS:
            abort(404, "There is no such file.")
        return send_from_directory(WEB / room / "static", name)

    app.jinja_env.globals["asset"] = lambda room, name: url_for("static_file", room=room, name=name)
