"""Where the full build of a sky of three layers spends its time, by stage: five skies, each led by
another family. python -m tools.builds"""

from __future__ import annotations

import time

from rich.console import Console
from rich.table import Table

from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.cache import StageCache
from dovrek.core.run.workers import Cancel
from dovrek.sky.reading import sky_from_data

FAMILIES = {
    "heaps": ("cumulus", "altocumulus", "cirrus"),
    "cells": ("stratocumulus", "altocumulus", "cirrostratus"),
    "stratus": ("stratus", "altostratus", "cirrus"),
    "veils": ("cirrus", "cirrocumulus", "cirrostratus"),
    "towers": ("cumulonimbus", "cumulus", "cirrus"),
}


def build_seconds(studio: Studio, genera: tuple[str, ...]) -> dict[str, float]:
    """Seconds by stage of a cold build of the scene, and in all."""
    sky = sky_from_data({"dovrek": 1, "sun": {"mode": "free", "elevation_deg": 40},
                         "layers": [{"genus": genus} for genus in genera]})
    studio.preparer.cache = StageCache()
    start = time.perf_counter()
    studio.preparer.scene(sky, FINE, Cancel())
    whole = time.perf_counter() - start
    return {**studio.preparer.cache.seconds, "in all": whole,
            "MB kept": studio.preparer.cache.bytes / 2**20}


def builds(studio: Studio) -> dict[str, dict[str, float]]:
    """Seconds by stage of each family, the quicker of two builds, the layers' and the air's."""
    build_seconds(studio, ("cumulus", "stratocumulus", "cirrus"))  # compiles
    found = {}
    for family, genera in FAMILIES.items():
        runs = [build_seconds(studio, genera) for _ in range(2)]
        found[family] = min(runs, key=lambda run: run["in all"])
    return found


def table_of(found: dict[str, dict[str, float]]) -> Table:
    """Stages down, families across, the dearest first."""
    names = sorted({name for row in found.values() for name in row},
                   key=lambda name: -max(row.get(name, 0.0) for row in found.values()))
    table = Table("stage", *found, title="Full build of three layers, s (wanted: 3 in all)",
                  title_justify="left")
    for name in names:
        table.add_row(name, *(f"{row.get(name, 0.0):.2f}" for row in found.values()))
    return table


def main() -> None:
    studio = Studio(2)
    Console().print(table_of(builds(studio)))
    studio.close()


if __name__ == "__main__":
    main()
