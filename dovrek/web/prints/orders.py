"""The Prints page: queue with progress, contact prints, viewer, files, storage."""

from __future__ import annotations

import shutil
from datetime import timedelta
from pathlib import Path
from typing import Any

from flask import (
    Blueprint,
    Response,
    abort,
    current_app,
    redirect,
    render_template,
    request,
    send_from_directory,
    url_for,
)

from dovrek.formats.archive import zipped
from dovrek.formats.kinds import printed
from dovrek.formats.preview import is_linear, parts_of, sidecar_of
from dovrek.formats.whole_file import whole_file
from dovrek.prints import kept
from dovrek.settings import Settings
from dovrek.sky.reading import sky_from_text
from dovrek.store import print_jobs as jobs
from dovrek.store import skies as store
from dovrek.store import versions
from dovrek.store.orders import DOME, FILM, FRAMES, VOLUME, Order, OrderError
from dovrek.store.tables import now
from dovrek.web.prints.ordering import time_text
from dovrek.web.prints.viewing import SIGHTS, SMALL, Sight, Unseen, seen, shows, sight_of
from dovrek.web.shared.answers import size_text

pages = Blueprint("orders", __name__)

CONTACTS_MOST, ORDERS_AT_ONCE = 60, 40
BACK_MOST = 5000  # prints that are brought back together
CLEANED = {"failed": 0, "month": 30, "week": 7}  # what is cleaned up, and after how many days


def _folder() -> Path:
    folder: Path = current_app.config["SETTINGS"].prints
    return folder


def shown(row: Any) -> dict[str, Any]:
    """A print's row in words; one whose order cannot be read says so, and can be removed."""
    try:
        order = jobs.order_of(row)
        kind = _kind_of(order)
    except (OrderError, KeyError):
        return {"row": row, "order": None, "left": "", "kind": "an order that cannot be read here",
                "size": "", "files": [], "parts": "tiles", "measure": ""}
    left = ""
    if row.state == jobs.WORKING and row.message:
        left = row.message
    elif row.state == jobs.WORKING and 0 < row.done < row.total:
        left = f"{time_text(row.seconds / row.done * (row.total - row.done))} left"
    elif row.state == jobs.WORKING:
        left = "finishing" if row.done and row.done == row.total else "building the scene"
    taken = kept.bytes_of(_settings(), row)
    files = [(p.name, size_text(p.stat().st_size)) for p in kept.files_of(_settings(), row)
             ] if row.state == jobs.DONE else []
    measure = (f"{order.voxel_m:g} m voxels, {order.extent_m / 1000.0:g} km"
               if order.kind == VOLUME else f"{order.width} × {order.height} · {order.quality}")
    return {"row": row, "order": order, "left": left, "kind": kind, "files": files,
            "parts": "frames" if order.is_clip else "parts", "measure": measure,
            "foretold": time_text(row.expected),
            "size": size_text(taken) if taken else ""}


def _kind_of(order: Order) -> str:
    """What is printed, in words. Raises KeyError for a file that is not known here."""
    if order.kind == FILM:
        return "Film, WebM"
    if order.kind == VOLUME:
        return "Volume, OpenVDB"
    form, bits = printed()[order.format]
    said = {DOME: "Dome with lights, ", FRAMES: "Frames, "}.get(order.kind, "")
    return f"{said}{form.title} {bits}"


def _settings() -> Settings:
    found: Settings = current_app.config["SETTINGS"]
    return found


@pages.get("/prints")
def front() -> Any:
    since = jobs.order_back(ORDERS_AT_ONCE)
    rows = jobs.from_order(since)
    return render_template(
        "prints.html", **_queued(rows, since), page="prints",
        removed=[int(n) for n in request.args.get("removed", "").split("-") if n.isdecimal()],
        storage=storage(), finished=[r for r in rows if r.state == jobs.DONE][:CONTACTS_MOST],
        older=since if jobs.order_back(1, since) else 0)


def _queued(rows: list[Any], since: int) -> dict[str, Any]:
    return {"prints": [shown(row) for row in rows], "since": since,
            "busy": any(row.state in jobs.OPEN for row in rows)}


def storage() -> dict[str, Any]:
    """What prints take on disk, and what the bin holds of it."""
    settings = _settings()
    thrown = sum(kept.bytes_of(settings, row) for row in jobs.binned())
    return {"prints": size_text(kept.bytes_in(settings) - thrown), "bin": size_text(thrown),
            "free": size_text(shutil.disk_usage(settings.prints).free)}


@pages.get("/prints/queue")
def queue() -> Any:
    """The newest orders, or those from the one on that began with `since`, and all that is not
    ended: a page that stays open loses none."""
    since = store.number_in(request.args.get("since", "")) or jobs.order_back(ORDERS_AT_ONCE)
    return render_template("queue.html", **_queued(jobs.from_order(since), since))


@pages.get("/prints/older")
def older() -> Any:
    """The next orders before the one that began with `before`, with the way to those before."""
    before = store.number_in(request.args.get("before", ""))
    since = jobs.order_back(ORDERS_AT_ONCE, before)
    return render_template(
        "prints_older.html", prints=[shown(row) for row in jobs.before_order(before, since)],
        older=since if jobs.order_back(1, since) else 0)


def _job(number: int) -> Any:
    try:
        return jobs.job(number)
    except jobs.NoSuchPrint as error:
        abort(404, str(error.args[0]))


@pages.get("/prints/<int:number>")
def view(number: int) -> Any:
    row = _job(number)
    if row.state != jobs.DONE:
        return redirect(url_for("orders.front"))
    facts = _facts(row)
    item = shown(row)
    return render_template("print.html", item=item, facts=facts, page="prints",
                           linear=is_linear(_folder() / row.file), sights=SIGHTS,
                           there=_sky_is_there(str(row.sky_slug)),
                           pictures=[name for name, _ in item["files"] if shows(name)],
                           parts=_parts(row))


def _facts(row: Any) -> dict[str, Any]:
    """What the sidecar of a print says; of frames one stands for all."""
    sides = [p for p in kept.files_of(_settings(), row) if p.suffix == ".json"]
    return sidecar_of(sides[0]) if sides else {}


def _parts(row: Any) -> list[str]:
    """Names of the passes in a print's own file."""
    path = _folder() / str(row.file)
    if path.suffix != ".exr" or jobs.order_of(row).passes != "all":
        return []
    try:
        return parts_of(path)
    except (OSError, RuntimeError):
        return []


def _sky_is_there(slug: str) -> bool:
    try:
        store.load(slug)
    except store.NoSuchSky:
        return False
    return True


@pages.post("/prints/<int:number>/cancel")
def cancel(number: int) -> Any:
    jobs.cancel(_job(number).id)
    return redirect(url_for("orders.front"))


@pages.post("/prints/<int:number>/pause")
def pause(number: int) -> Any:
    jobs.pause(_job(number).id)
    return redirect(url_for("orders.front"))


@pages.post("/prints/<int:number>/resume")
def resume(number: int) -> Any:
    jobs.resume(_job(number).id)
    return redirect(url_for("orders.front"))


@pages.post("/prints/<int:number>/retry")
def retry(number: int) -> Any:
    jobs.retry(_job(number).id)
    return redirect(url_for("orders.front"))


@pages.post("/prints/<int:number>/remove")
def remove(number: int) -> Any:
    """Put a print into the bin."""
    jobs.remove(_job(number).id)
    return redirect(url_for("orders.front", removed=number))


@pages.post("/prints/clean")
def clean() -> Any:
    """Put prints into the bin together: those that ended without a file, or all that are older
    than some days."""
    what = request.form.get("what", "")
    if what not in CLEANED:
        abort(422, f"what: '{what[:20]}' is not known; use one of {', '.join(CLEANED)}")
    before = now() - timedelta(days=CLEANED[what])
    gone = []
    for row in jobs.all_jobs():
        ended = row.state in (jobs.FAILED, jobs.CANCELLED) if what == "failed" else (
            row.state == jobs.DONE and row.finished is not None and row.finished < before)
        if ended:
            jobs.remove(row.id)
            gone.append(str(row.id))
    return redirect(url_for("orders.front", removed="-".join(gone)))


@pages.post("/prints/restore")
def bring_back() -> Any:
    for number in request.form.get("numbers", "").split("-")[:BACK_MOST]:
        if number.isdecimal() and len(number) < 16:
            jobs.restore(int(number))
    return redirect(url_for("orders.front"))


@pages.post("/prints/<int:number>/version")
def as_version(number: int) -> Any:
    """The sky as it was printed becomes a version of it, and is opened to be compared."""
    row = _job(number)
    slug = str(row.sky_slug)
    if not _sky_is_there(slug):
        abort(404, "The sky of this print lies in the bin or is gone; the print's sidecar holds it "
                   "whole, and the skies page can open that.")
    versions.keep_version(slug, f"Print {row.id}", sky_from_text(jobs.document_of(row)))
    return redirect(url_for("composer.page", slug=slug))


@pages.get("/prints/<int:number>/file")
def file(number: int) -> Any:
    return _download(number, "")


@pages.get("/prints/<int:number>/sidecar")
def side(number: int) -> Any:
    return _download(number, ".json")


def _download(number: int, suffix: str) -> Any:
    row = _job(number)
    if row.state != jobs.DONE:
        abort(404, "This print is not finished.")
    name = str(Path(row.file).with_suffix(suffix)) if suffix else row.file
    found = [p for p in kept.files_of(_settings(), row) if p.suffix == suffix] if suffix else []
    name = found[0].name if found else name
    if not (_folder() / name).exists():
        abort(404, f"The file {name} is no longer in the prints folder.")
    return send_from_directory(_folder(), name, as_attachment=True)


@pages.get("/prints/<int:number>/all.zip")
def archive(number: int) -> Any:
    """All files of a print in one archive, streamed: it is never whole in memory."""
    row = _job(number)
    files = kept.files_of(_settings(), row)
    if row.state != jobs.DONE or not files:
        abort(404, "This print has no files.")
    answer = Response(zipped(files), mimetype="application/zip")
    answer.headers["Content-Disposition"] = (
        f'attachment; filename="{Path(row.file).stem}.zip"')
    return answer


@pages.get("/prints/<int:number>/files/<name>")
def one_file(number: int, name: str) -> Any:
    """One of a print's files by its name; a film may be played in place."""
    row = _job(number)
    names = [p.name for p in kept.files_of(_settings(), row)]
    if row.state != jobs.DONE or name not in names:
        abort(404, "This print has no such file.")
    return send_from_directory(_folder(), name, as_attachment="play" not in request.args)


@pages.get("/prints/<int:number>/contact.png")
def contact(number: int) -> Any:
    """A print as a contact print: small, made once."""
    row = _job(number)
    path = _folder() / f"{kept.CONTACT}{row.id}.png"
    if not path.is_file():
        picture = _seen(row, str(row.file), Sight(width=SMALL))
        with whole_file(path) as part:
            part.write_bytes(picture)
    answer = Response(path.read_bytes(), mimetype="image/png")
    answer.headers["Cache-Control"] = "private, max-age=600"
    return answer


@pages.get("/prints/<int:number>/preview.png")
def preview(number: int) -> Any:
    """The print as the viewer asks for it: linear files are developed as their sidecar says, so
    many stops brighter or darker; a dome may be looked around in; a part may be seen pixel by
    pixel."""
    row = _job(number)
    name = request.args.get("name", str(row.file))
    return Response(_seen(row, name, sight_of(request.args)), mimetype="image/png")


def _seen(row: Any, name: str, sight: Sight) -> bytes:
    names = [p.name for p in kept.files_of(_settings(), row)]
    if row.state != jobs.DONE or name not in names:
        abort(404, "There is no file of this print.")
    try:
        return seen(_folder() / name, _facts(row), sight)
    except Unseen as error:
        abort(404, str(error))
