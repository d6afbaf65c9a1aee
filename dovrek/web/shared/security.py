"""What every request passes: known host, token against forgery, strict headers."""

from __future__ import annotations

import secrets
from pathlib import Path

from flask import Flask, Response, abort, request, session

POLICY = ("default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob:; "
          "font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
          "frame-ancestors 'none'")
SAFE_METHODS = {"GET", "HEAD", "OPTIONS"}


def secret_key(home: Path) -> bytes:
    """The key that signs cookies, made once per home and readable by its owner only."""
    path = home / "secret"
    if not path.exists():
        path.touch(mode=0o600)
        path.write_bytes(secrets.token_bytes(32))
    return path.read_bytes()


def token() -> str:
    """The session's token against forged requests."""
    if "token" not in session:
        session["token"] = secrets.token_urlsafe(24)
    return str(session["token"])


def protect(app: Flask, hosts: set[str]) -> None:
    """Install the checks and headers. `hosts` are the names this server answers to."""

    @app.before_request
    def _check() -> None:
        name = request.host.rsplit(":", 1)[0].strip("[]")
        if name not in hosts:
            abort(403, "This address is not one the application answers to; open it at "
                       "http://127.0.0.1.")
        if request.method in SAFE_METHODS:
            return
        given = request.headers.get("X-Token") or request.form.get("token", "")
        if not secrets.compare_digest(given.encode(), token().encode()):
            abort(403, "The page is out of date; reload it and try again.")

    @app.after_request
    def _headers(response: Response) -> Response:
        response.headers["Content-Security-Policy"] = POLICY
        response.headers["X-Content-Type-Options"] = "nosniff"
        response.headers["Referrer-Policy"] = "no-referrer"
        response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
        response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
        if response.mimetype in ("text/html", "application/json"):
            response.headers["Cache-Control"] = "no-store"
        return response

    app.jinja_env.globals["token"] = token
