"""The application factory: settings, store, live picture, blueprints, errors in one place."""

from __future__ import annotations

from typing import Any

from flask import Flask, jsonify, render_template, request
from peewee import OperationalError
from werkzeug.exceptions import HTTPException
from werkzeug.routing import IntegerConverter

from dovrek import __version__
from dovrek.formats.assets import ARCHIVE_MOST
from dovrek.formats.cover_maps import BYTES_MOST as MAP_BYTES
from dovrek.formats.height_maps import BYTES_MOST as HEIGHT_BYTES
from dovrek.formats.references import BYTES_MOST as PHOTOGRAPH_BYTES
from dovrek.settings import Settings
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.store import skies as store
from dovrek.store.recipes import NoSuchRecipe
from dovrek.store.tables import open_database
from dovrek.store.versions import NoSuchThing
from dovrek.web.bin import bin as bin_room
from dovrek.web.compare import matching, suggesting
from dovrek.web.composer import behind, clip, handling, heroes, judging, layers, page
from dovrek.web.guide import guide
from dovrek.web.live.live import Live, Warming
from dovrek.web.prints import ordering, orders
from dovrek.web.prints.reckoning import Reckoner
from dovrek.web.recipes import library
from dovrek.web.shared.answers import units
from dovrek.web.shared.rooms import furnish
from dovrek.web.shared.security import protect
from dovrek.web.skies import gallery
from dovrek.web.weather import weather
from dovrek.web.weather.comparing import Comparer

UPLOAD_LIMIT = 3 * 1024 * 1024
# What takes pictures, and up to how many bytes.
PICTURES = {"layers.upload_map": MAP_BYTES, "layers.upload_world": MAP_BYTES,
            "layers.upload_heights": HEIGHT_BYTES,
            "behind.upload_behind": PHOTOGRAPH_BYTES, "layers.upload_colours": PHOTOGRAPH_BYTES,
            "gallery.bring_in": ARCHIVE_MOST, "matching.add_reference": PHOTOGRAPH_BYTES,
            "matching.add_drawing": PHOTOGRAPH_BYTES}
NOT_THERE = (store.NoSuchSky, NoSuchRecipe, NoSuchThing)
LOCAL_NAMES = {"127.0.0.1", "localhost", "::1"}


class RowNumber(IntegerConverter):
    """Numbers of rows in addresses: as long as SQLite's are."""

    regex = r"\d{1,15}"


def create_app(settings: Settings, live: Live) -> Flask:
    """An application over a home folder; `live` renders for it."""
    app = Flask(__name__, static_folder=None)
    app.config.update(MAX_CONTENT_LENGTH=UPLOAD_LIMIT, SETTINGS=settings)
    app.extensions["live"] = live
    app.extensions["reckoner"] = Reckoner()
    app.extensions["comparer"] = Comparer()
    app.url_map.converters["int"] = RowNumber
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
        # A server's threads are few and stay: each keeps its connection.
        if not app.config.get("STAYS_CONNECTED") and not database.is_closed():
            database.close()

    def keep(slug: str, revision: int, png: bytes) -> None:
        try:
            with database.connection_context():
                store.keep_picture(slug, revision, gallery.thumbnail(png))
        except Exception:  # the picture itself is well, and the gallery asks for it again
            app.logger.exception("the gallery's picture of %s could not be stored", slug)

    live.kept = keep
    furnish(app)
    protect(app, LOCAL_NAMES | {settings.host}, settings.home)
    app.jinja_env.globals["version"] = __version__
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    @app.context_processor
    def _board() -> dict[str, str]:
        """How this window likes its board and its units."""
        return {"board": "night" if request.cookies.get("board") == "night" else "day",
                "units": units()}

    for room in (gallery, page, layers, behind, heroes, clip, handling, judging, matching,
                 suggesting, library, ordering, orders, bin_room, guide, weather):
        app.register_blueprint(room.pages)
    _errors(app)
    return app


def _wants_json() -> bool:
    return request.is_json or request.accept_mimetypes.best == "application/json" or (
        "X-Token" in request.headers)


def _errors(app: Flask) -> None:
    def settings_home() -> str:
        return str(app.config["SETTINGS"].home)

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

    @app.errorhandler(store.UnreadableSky)
    def _unreadable(error: store.UnreadableSky) -> Any:
        return answer(str(error), 409)

    @app.errorhandler(Warming)
    def _warming(error: Warming) -> Any:
        return answer(str(error), 503)

    @app.errorhandler(OperationalError)
    @app.errorhandler(OSError)
    def _disk(error: Exception) -> Any:
        """What cannot be written or read on disk: nothing was stored, and it is the user's to
        mend."""
        app.logger.error("the store: %s %s", error,
                         getattr(error.__context__ or error.__cause__, "sqlite_errorname", ""))
        said = str(error)
        if "full" in said or "No space" in said:
            return answer("The disk is full; nothing was stored and nothing is lost. Free some "
                          "space and try again.", 507)
        if "locked" in said:
            return answer("The store is busy; nothing was stored. Try again in a moment.", 503)
        return answer("The home folder cannot be written or read just now; nothing was stored. "
                      f"Look whether {settings_home()} is there and writable, and try again.", 503)

    @app.errorhandler(RecursionError)
    @app.errorhandler(OverflowError)
    @app.errorhandler(UnicodeEncodeError)
    def _beyond(error: Exception) -> Any:
        """What a request holds that no sky can: the gates name the field where they know it."""
        app.logger.warning("refused: %s", type(error).__name__)
        return answer({RecursionError: "The text is nested too deeply; send it as it was exported.",
                       OverflowError: "A number is too large; give one within its range."}.get(
                           type(error), "The text holds characters that are none; type it anew."),
                      422)

    @app.errorhandler(LookupError)
    def _missing(error: LookupError) -> Any:
        if isinstance(error, NOT_THERE):
            return answer(str(error.args[0]), 404)
        return _failure(error)

    @app.errorhandler(413)
    def _large(error: HTTPException) -> Any:
        if request.endpoint == "gallery.bring_in":
            return answer(f"The file is larger than {ARCHIVE_MOST // 2**20} MB, too large for a "
                          "sky; choose one exported as JSON, or with smaller pictures.", 413)
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
