"""The application factory: settings, store, live picture, blueprints, errors in one place."""

from __future__ import annotations

from typing import Any

from flask import Flask, jsonify, render_template, request
from werkzeug.exceptions import HTTPException

from dovrek import __version__
from dovrek.formats.cover_maps import BYTES_MOST
from dovrek.settings import Settings
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.store import skies as store
from dovrek.store.tables import open_database
from dovrek.web import composer, gallery, orders
from dovrek.web.live import Live
from dovrek.web.security import protect, secret_key

UPLOAD_LIMIT = 3 * 1024 * 1024
LOCAL_NAMES = {"127.0.0.1", "localhost", "::1"}


def create_app(settings: Settings, live: Live) -> Flask:
    """An application over a home folder; `live` renders for it."""
    app = Flask(__name__)
    app.config.update(
        SECRET_KEY=secret_key(settings.home), MAX_CONTENT_LENGTH=UPLOAD_LIMIT,
        SESSION_COOKIE_SAMESITE="Strict", SESSION_COOKIE_HTTPONLY=True, SETTINGS=settings)
    app.extensions["live"] = live
    database = open_database(settings.database)

    @app.before_request
    def _room() -> None:
        if request.endpoint == "composer.upload_map":
            request.max_content_length = BYTES_MOST + 2**20

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
    protect(app, LOCAL_NAMES | {settings.host})
    app.jinja_env.globals["version"] = __version__
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    for blueprint in (gallery.pages, composer.pages, orders.pages):
        app.register_blueprint(blueprint)
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

    @app.errorhandler(store.NoSuchSky)
    def _missing(error: store.NoSuchSky) -> Any:
        return answer(str(error.args[0]), 404)

    @app.errorhandler(413)
    def _large(error: HTTPException) -> Any:
        if request.endpoint == "composer.upload_map":
            return answer(f"The picture is larger than {BYTES_MOST // 2**20} MB; choose a smaller "
                          "one.", 413)
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
