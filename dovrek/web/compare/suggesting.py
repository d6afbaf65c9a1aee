"""Suggest: propose a sky from a photograph, beside the other work, as a new version."""

from __future__ import annotations

import itertools
import threading
import time
from dataclasses import dataclass, field
from typing import Any

from flask import Blueprint, abort, render_template
from numpy.typing import NDArray

from dovrek.core.photo.clear_fit import Framing
from dovrek.core.photo.suggest import Proposal, TooLittleSky, suggest
from dovrek.core.prepare.preparer import Preparer
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.sky.document import Sky
from dovrek.store import skies as store
from dovrek.store import versions as kept
from dovrek.store.tables import database
from dovrek.web.shared.answers import live
from dovrek.web.shared.photographs import framed_as, opened, skyline_of

pages = Blueprint("suggesting", __name__, url_prefix="/skies/<slug>")

KEPT = 16
SEARCH_BYTES = 250 * 2**20


@dataclass
class Search:
    """One search in hand."""

    id: int
    slug: str
    reference: int
    name: str
    cancel: Cancel = field(default_factory=Cancel)
    began: float = field(default_factory=time.perf_counter)
    seconds: float = 0.0
    share: float = 0.0
    what: str = "beginning"
    fault: str = ""
    proposal: Proposal | None = None
    version: int = 0

    @property
    def over(self) -> bool:
        return bool(self.fault) or self.version > 0 or self.cancel.is_set


_numbers = itertools.count(1)
_searches: dict[int, Search] = {}
_known_skies = StageCache(SEARCH_BYTES)


def _run(search: Search, sky: Sky, pixels: NDArray[Any], framing: Framing,
         preparer: Preparer) -> None:
    def progress(share: float, what: str) -> None:
        search.share, search.what = share, what

    try:
        proposal = suggest(sky, pixels, framing, preparer, search.cancel, progress, _known_skies)
        search.cancel.check()
        with database.connection_context():
            row = kept.keep_version(search.slug, f"Suggested from {search.name}", proposal.sky)
        search.proposal, search.version = proposal, row.id
    except Cancelled:
        pass
    except TooLittleSky as error:
        search.fault = f"{search.name}: {error}."
    except Exception as error:
        search.fault = f"The search failed: {error}. Try another photograph."
    search.seconds = time.perf_counter() - search.began


@pages.post("/references/<int:number>/suggest")
def begin(slug: str, number: int) -> Any:
    """Start a search; the answer is a panel that follows it."""
    row = kept.reference(slug, number)
    sky, _ = store.load(slug)
    framed = framed_as(sky, row)
    framing = Framing(framed.camera.fov_h_rad, framed.camera.pitch_deg, float(row.horizon),
                      skyline_of(row))
    for other in _searches.values():
        if other.slug == slug and not other.over:
            other.cancel.set()
    search = Search(next(_numbers), slug, number, str(row.name))
    _searches[search.id] = search
    while len(_searches) > KEPT:
        _searches.pop(next(iter(_searches)))
    preparer = Preparer(live().studio.workers, StageCache(SEARCH_BYTES))
    threading.Thread(target=_run, name="suggest", daemon=True, args=(
        search, framed, opened(bytes(row.picture)), framing, preparer)).start()
    return render_template("search.html", search=search, slug=slug)


def _search(slug: str, number: int) -> Search:
    found = _searches.get(number)
    if found is None or found.slug != slug:
        abort(404, "This search is no longer kept; start it again.")
    return found


@pages.get("/suggest/<int:number>")
def follow(slug: str, number: int) -> Any:
    return render_template("search.html", search=_search(slug, number), slug=slug)


@pages.post("/suggest/<int:number>/cancel")
def stop(slug: str, number: int) -> Any:
    search = _search(slug, number)
    search.cancel.set()
    return render_template("search.html", search=search, slug=slug)
