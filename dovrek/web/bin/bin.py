"""The Bin page: what was deleted, what it takes, back again or gone for good."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from flask import Blueprint, abort, current_app, redirect, render_template, url_for

from dovrek.prints import kept
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store import skies as store
from dovrek.store.documents import bytes_of
from dovrek.store.tables import now
from dovrek.web.shared.answers import size_text

pages = Blueprint("bin", __name__, url_prefix="/bin")


def _settings() -> Settings:
    found: Settings = current_app.config["SETTINGS"]
    return found


@pages.get("/")
def front() -> Any:
    rows: list[dict[str, Any]] = [
        {"kind": "sky", "key": row.slug, "name": row.name, "binned": row.binned,
         "bytes": bytes_of(row)} for row in store.binned()]
    rows += [{"kind": "print", "key": row.id, "name": f"{row.title}, no. {row.id}",
              "binned": row.binned, "bytes": kept.bytes_of(_settings(), row)}
             for row in jobs.binned()]
    for row in rows:
        row["size"], row["gone"] = size_text(row["bytes"]), row["binned"] + timedelta(
            days=store.BIN_DAYS)
    rows.sort(key=lambda row: row["binned"], reverse=True)
    return render_template("bin.html", rows=rows, days=store.BIN_DAYS, page="bin",
                           total=size_text(sum(row["bytes"] for row in rows)))


@pages.post("/<kind>/<key>/restore")
def bring_back(kind: str, key: str) -> Any:
    if kind == "sky":
        store.restore(key)
    elif kind == "print":
        jobs.restore(store.number_in(key))
    else:
        abort(404, "The bin holds skies and prints.")
    return redirect(url_for("bin.front"))


@pages.post("/<kind>/<key>/forget")
def forget(kind: str, key: str) -> Any:
    """Remove one thing for good."""
    if kind == "sky":
        store.forget(key)
    elif kind == "print":
        kept.forget(_settings(), store.number_in(key))
    else:
        abort(404, "The bin holds skies and prints.")
    return redirect(url_for("bin.front"))


@pages.post("/empty")
def empty() -> Any:
    kept.purge(_settings(), now())
    return redirect(url_for("bin.front"))
