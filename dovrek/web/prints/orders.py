"""The Prints page: order, queue with progress, cancel, retry, viewer, downloads."""

from __future__ import annotations

import io
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
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.formats.kinds import holding, printed
from dovrek.formats.preview import light_of_exr, sidecar_of
from dovrek.prints import kept
from dovrek.store import print_jobs as jobs
from dovrek.store import skies as store
from dovrek.web.shared.answers import size_text

pages = Blueprint("orders", __name__)

PREVIEW_WIDTH = 1600


def _folder() -> Path:
    folder: Path = current_app.config["SETTINGS"].prints
    return folder


def shown(row: Any) -> dict[str, Any]:
    """A print's row in words; one whose order cannot be read says so, and can be removed."""
    try:
        order = jobs.order_of(row)
        kind = _kind_of(order)
    except (jobs.OrderError, KeyError):
        return {"row": row, "order": None, "left": "", "kind": "an order that cannot be read here",
                "size": "", "files": [], "parts": "tiles"}
    left = ""
    if row.state == jobs.WORKING and row.message:
        left = row.message
    elif row.state == jobs.WORKING and 0 < row.done < row.total:
        seconds = row.seconds / row.done * (row.total - row.done)
        left = f"{seconds:.0f} s left" if seconds < 90 else f"{seconds / 60:.0f} min left"
    elif row.state == jobs.WORKING:
        left = "finishing" if row.done and row.done == row.total else "building the scene"
    taken = kept.bytes_of(current_app.config["SETTINGS"], row)
    files = [(p.name, size_text(p.stat().st_size)) for p in kept.files_of(
        current_app.config["SETTINGS"], row)] if row.state == jobs.DONE else []
    return {"row": row, "order": order, "left": left, "kind": kind, "files": files,
            "parts": "frames" if order.kind == jobs.FILM else "tiles",
            "size": size_text(taken) if taken else ""}


def _kind_of(order: jobs.Order) -> str:
    """What is printed, in words. Raises KeyError for a file that is not known here."""
    if order.kind == jobs.FILM:
        return "Film, WebM"
    form, bits = printed()[order.format]
    if order.kind == jobs.DOME:
        return f"Dome with lights, {form.title} {bits}"
    return f"{form.title} {bits}"


@pages.post("/skies/<slug>/prints")
def order(slug: str) -> Any:
    sky, _ = store.load(slug)
    try:
        wanted = jobs.order_from(request.form.to_dict(), holding())
    except jobs.OrderError as error:
        abort(422, str(error))
    jobs.place(sky, slug, wanted)
    return redirect(url_for("orders.front"))


@pages.get("/prints")
def front() -> Any:
    return render_template("prints.html", prints=[shown(r) for r in jobs.all_jobs()],
                           removed=request.args.get("removed", 0, type=int), page="prints")


@pages.get("/prints/queue")
def queue() -> Any:
    return render_template("queue.html", prints=[shown(r) for r in jobs.all_jobs()])


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
    facts = sidecar_of(_folder() / row.file)
    return render_template("print.html", item=shown(row), facts=facts, page="prints")


@pages.post("/prints/<int:number>/cancel")
def cancel(number: int) -> Any:
    jobs.cancel(_job(number).id)
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


@pages.post("/prints/<int:number>/restore")
def bring_back(number: int) -> Any:
    jobs.restore(number)
    return redirect(url_for("orders.front"))


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
    if not (_folder() / name).exists():
        abort(404, f"The file {name} is no longer in the prints folder.")
    return send_from_directory(_folder(), name, as_attachment=True)


@pages.get("/prints/<int:number>/files/<name>")
def one_file(number: int, name: str) -> Any:
    """One of a print's files by its name; a film may be played in place."""
    row = _job(number)
    names = [p.name for p in kept.files_of(current_app.config["SETTINGS"], row)]
    if row.state != jobs.DONE or name not in names:
        abort(404, "This print has no such file.")
    return send_from_directory(_folder(), name, as_attachment="play" not in request.args)


@pages.get("/prints/<int:number>/preview.png")
def preview(number: int) -> Any:
    """The print as the page shows it: linear files are developed as their sidecar says."""
    row = _job(number)
    path = _folder() / row.file
    if row.state != jobs.DONE or not path.exists():
        abort(404, "There is no file of this print.")
    if path.suffix == ".exr":
        light, facts = light_of_exr(path)
        exposure = facts.get("exposure")
        if not exposure:
            abort(404, "The sidecar of this print is gone or torn; the file itself can be fetched.")
        stride = max(1, light.shape[1] // PREVIEW_WIDTH)
        picture = develop(light[::stride, ::stride], exposure["ev"], exposure["white_balance_k"],
                          exposure["contrast"], exposure.get("saturation", 1.0))
        image = Image.fromarray(picture)
    else:
        image = Image.open(path)
        image.thumbnail((PREVIEW_WIDTH, PREVIEW_WIDTH))
        if image.mode not in ("RGB", "RGBA"):
            image = image.convert("RGB")
    buffer = io.BytesIO()
    image.save(buffer, "PNG", compress_level=3)
    return Response(buffer.getvalue(), mimetype="image/png")
