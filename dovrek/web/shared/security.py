"""What every request passes: known host, token against forgery, strict headers."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta
from pathlib import Path
from typing import Any

from flask import Flask, Response, abort, jsonify, render_template, request, session
from flask_wtf.csrf import CSRFError, CSRFProtect, generate_csrf

from dovrek.formats.whole_file import whole_file

POLICY = ("default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob:; "
          "font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
          "frame-ancestors 'none'")
KEY_BYTES = 32
KEPT_FOR = timedelta(days=3650)  # a window may stay open for as long as it likes


def secret_key(home: Path) -> bytes:
    """The key that signs cookies, made once per home and readable by its owner only; one that was
    only half written is made anew."""
    path = home / "secret"
    known = path.read_bytes() if path.exists() else b""
    if len(known) == KEY_BYTES:
        return known
    made = secrets.token_bytes(KEY_BYTES)
    with whole_file(path, mode=0o600) as part:
        part.write_bytes(made)
    return made


def cookie_name(home: Path) -> str:
    """The session's cookie, by its home: browsers do not tell ports apart."""
    return f"dovrek-{hashlib.sha256(str(home.resolve()).encode()).hexdigest()[:10]}"


def protect(app: Flask, hosts: set[str], home: Path) -> None:
    """Install the checks and headers. `hosts` are the names this server answers to."""
    app.config.update(
        SECRET_KEY=secret_key(home), SESSION_COOKIE_NAME=cookie_name(home),
        SESSION_COOKIE_SAMESITE="Strict", SESSION_COOKIE_HTTPONLY=True,
        SESSION_REFRESH_EACH_REQUEST=False, PERMANENT_SESSION_LIFETIME=KEPT_FOR,
        WTF_CSRF_TIME_LIMIT=None, WTF_CSRF_FIELD_NAME="token", WTF_CSRF_HEADERS=["X-Token"],
        WTF_CSRF_SSL_STRICT=False)  # it is served without TLS, on this machine alone

    @app.before_request
    def _host() -> None:
        if not session.permanent:  # set once: an answer under way brings no older cookie back
            session.permanent = True
        name = request.host.rsplit(":", 1)[0].strip("[]")
        if name not in hosts:
            abort(403, "This address is not one the application answers to; open it at "
                       "http://127.0.0.1.")

    CSRFProtect(app)

    @app.errorhandler(CSRFError)
    def _refused(error: CSRFError) -> Any:
        text = "The page is out of date; reload it and try again."
        if "X-Token" in request.headers:  # a script, which asks once more with a token that holds
            return jsonify({"error": text, "token": generate_csrf()}), 403
        return render_template("message.html", text=text, faults=[]), 403

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

    app.jinja_env.globals["token"] = generate_csrf
