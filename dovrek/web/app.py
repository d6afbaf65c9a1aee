"""The application factory: settings, store, live picture, blueprints, errors in one place."""

from __future__ import annotations

from typing import Any

from flask import Flask, jsonify, render_template, request
from werkzeug.exceptions import HTTPException

from dovrek import __version__
from dovrek.formats.cover_maps import BYTES_MOST as MAP_BYTES
from dovrek.formats.references import BYTES_MOST as PHOTOGRAPH_BYTES
from dovrek.settings import Settings
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.store import skies as store
from dovrek.store.recipes import NoSuchRecipe
from dovrek.store.tables import open_database
from dovrek.store.versions import NoSuchThing
from dovrek.web.compare import matching, suggesting
from dovrek.web.composer import handling, judging, layers, page
from dovrek.web.guide import guide
from dovrek.web.live.live import Live
from dovrek.web.prints import orders
from dovrek.web.recipes import library
from dovrek.web.shared.answers import units
from dovrek.web.shared.rooms import furnish
from dovrek.web.shared.security import protect, secret_key
from dovrek.web.skies import gallery

UPLOAD_LIMIT = 3 * 1024 * 1024
# What takes pictures, and up to how many bytes.
PICTURES = {"layers.upload_map": MAP_BYTES, "matching.add_reference": PHOTOGRAPH_BYTES,
            "matching.add_drawing": PHOTOGRAPH_BYTES}
NOT_THERE = (store.NoSuchSky, NoSuchRecipe, NoSuchThing)
LOCAL_NAMES = {"127.0.0.1", "localhost", "::1"}


def create_app(settings: Settings, live: Live) -> Flask:
    """An application over a home folder; `live` renders for it."""
    app = Flask(__name__, static_folder=None)
    app.config.update(
        SECRET_KEY=secret_key(settings.home), MAX_CONTENT_LENGTH=UPLOAD_LIMIT,
        SESSION_COOKIE_SAMESITE="Strict", SESSION_COOKIE_HTTPONLY=True, SETTINGS=settings)
    app.extensions["live"] = live
    database = open_database(settings.database)

    @app.before_request
    def _room() -> None:
        if request.endpoint in PICTURES:
            request.max_content_length = PICTURES[request.endpoint] + 2**20

    @app.before_request
    def _open() -> None:
        database.connect(reuse_if_open=True)

    @app.teardown_request
    def _close(error: BaseException | None) -> None:
        if not database.is_closed():
            database.close()

    def keep(slug: str, revision: int, png: bytes) -> None:
        with database.connection_context():
            store.keep_picture(slug, revision, gallery.thumbnail(png))

    live.kept = keep
    furnish(app)
    protect(app, LOCAL_NAMES | {settings.host})
    app.jinja_env.globals["version"] = __version__
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    @app.context_processor
    def _board() -> dict[str, str]:
        """How this window likes its board and its units."""
        return {"board": "night" if request.cookies.get("board") == "night" else "day",
                "units": units()}

    for room in (gallery, page, layers, handling, judging, matching, suggesting, library,
                 orders, guide):
        app.register_blueprint(room.pages)
    _errors(app)
    return app


def _wants_json() -> bool:
    return request.is_json or request.accept_mimetypes.best == "application/json" or (
        "X-Token" in request.headers)


def _errors(app: Flask) -> None:
    def answer(text: str, status: int, faults: list[dict[str, str]] | None = None) -> Any:
        if _wants_json():
            return jsonify({"error": text, "faults": faults or []}), status
        return render_template("message.html", text=text, faults=faults or []), status

    @app.errorhandler(SkyError)
    def _sky(error: SkyError) -> Any:
        faults = [{"path": f.path, "text": str(f)} for f in error.faults[:20]]
        return answer(str(error), 422, faults)

    @app.errorhandler(SkyConflict)
    def _conflict(error: SkyConflict) -> Any:
        return answer(str(error), 409)

    @app.errorhandler(LookupError)
    def _missing(error: LookupError) -> Any:
        if isinstance(error, NOT_THERE):
            return answer(str(error.args[0]), 404)
        return _failure(error)

    @app.errorhandler(413)
    def _large(error: HTTPException) -> Any:
        if request.endpoint in PICTURES:
            return answer(f"The picture is larger than {PICTURES[request.endpoint] // 2**20} MB; "
                          "choose a smaller one.", 413)
        return answer(f"The file is larger than {UPLOAD_LIMIT // 1024 // 1024} MB, too large for "
                      "a sky; choose a sky exported as JSON.", 413)

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Any:
        return answer(error.description or error.name, error.code or 500)

    @app.errorhandler(Exception)
    def _failure(error: Exception) -> Any:
        app.logger.exception("request failed")
        return answer("Something failed here; the sky is as it was. Try again, and reload the "
                      "page if it stays.", 500)
