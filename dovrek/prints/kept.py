"""What prints keep on disk: tiles while they are made, files when they are done, and when what is
no longer of use goes."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from dovrek import __version__
from dovrek.core.compile.kernels import FOLDER
from dovrek.formats.dome_set import PROOF
from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store import skies
from dovrek.store.tables import now

TILES_DAYS = 7  # after a print failed or was cancelled
TILES = "-tiles"
PART = ".part-"
CONTACT = ".contact-"  # small pictures of prints, by their numbers


def digest_of(document: str, order: str) -> str:
    """What the tiles of a print are known by: all that their pixels depend on (the folder of the
    compiled kernels is named after their sources)."""
    told = "\0".join((document, order, __version__, FOLDER.name))
    return hashlib.sha256(told.encode()).hexdigest()


def tile_folder(settings: Settings, digest: str) -> Path:
    return settings.prints / f"{digest[:32]}{TILES}"


def files_of(settings: Settings, row: Any) -> list[Path]:
    """Files of a finished print that are there."""
    if not row.file:
        return []
    if row.files:
        named = (settings.prints / Path(str(name)).name for name in json.loads(str(row.files)))
        return [p for p in named if p.is_file()]
    path = settings.prints / Path(str(row.file)).name
    beside = [path.with_suffix(end) for end in (".json", ".usda")]
    return [p for p in (path, *beside, path.with_name(path.stem + PROOF)) if p.is_file()]


def bytes_of(settings: Settings, row: Any) -> int:
    """What a print takes on disk, its tiles included: those of a print that is just being finished
    may go while they are counted."""
    found = files_of(settings, row)
    if row.digest:
        found += [Path(place) / name
                  for place, _, names in os.walk(tile_folder(settings, str(row.digest)))
                  for name in names]
    return sum(_size(path) for path in found)


def bytes_in(settings: Settings) -> int:
    """What all prints take on disk with their tiles, those in the bin too."""
    return sum(_size(Path(place) / name) for place, _, names in os.walk(settings.prints)
               for name in names if not name.startswith(CONTACT))


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except FileNotFoundError:
        return 0


def forget(settings: Settings, number: int) -> None:
    """Remove a print of the bin and its files for good. Raises OSError with its row still there."""
    for row in jobs.binned():
        if row.id == number:
            for path in files_of(settings, row):
                path.unlink(missing_ok=True)
            (settings.prints / f"{CONTACT}{number}.png").unlink(missing_ok=True)
            jobs.forget(number)


def purge(settings: Settings, before: datetime) -> int:
    """Remove for good what was put into the bin before a moment; returns how many things."""
    prints = [row for row in jobs.binned() if row.binned is None or row.binned < before]
    for row in prints:
        forget(settings, row.id)
    old = [row for row in skies.binned() if row.binned is None or row.binned < before]
    for sky in old:
        skies.forget(str(sky.slug))
    return len(prints) + len(old)


def sweep(settings: Settings, at_start: bool = False) -> int:
    """Empty the bin of what is old, remove tiles that no print will use and, at the start of the
    only engine, halves of files that a kill has left; returns how many went."""
    purge(settings, now() - timedelta(days=skies.BIN_DAYS))
    wanted = jobs.tiles_wanted(now() - timedelta(days=TILES_DAYS))
    keep = {tile_folder(settings, digest).name for digest in wanted if digest}
    gone = [p for p in settings.prints.glob(f"*{TILES}") if p.name not in keep]
    for folder in gone:
        shutil.rmtree(folder, ignore_errors=True)
    parts = list(settings.prints.glob(f"{PART}*")) if at_start else []
    if at_start:
        parts += settings.prints.glob(f"*{TILES}/**/{PART}*")
    for part in parts:
        part.unlink(missing_ok=True)
    return len(gone) + len(parts)
