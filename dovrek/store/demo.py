"""The demo: finished skies of a made-up commission, loaded into an empty store."""

from __future__ import annotations

import json
from importlib.resources import files
from typing import Any

from dovrek.sky.changes import with_values
from dovrek.sky.reading import sky_from_text
from dovrek.store import skies
from dovrek.store.tables import StoredSky
from dovrek.store.versions import keep_version

ORDER = ("fair-weather-noon", "last-light", "high-streaks", "hills-in-september",
         "morning-fog", "bank-over-the-island", "storm-from-orbit")


def demo_texts() -> dict[str, str]:
    """Sky JSON of every demo sky by slug."""
    folder = files("dovrek.store.demo_skies")
    return {name: folder.joinpath(f"{name}.json").read_text() for name in ORDER}


def demo_versions() -> dict[str, list[dict[str, Any]]]:
    """Versions of the demo skies by slug: `name`, and the `values` that differ from the sky."""
    text = files("dovrek.store.demo_skies").joinpath("versions.json").read_text()
    found: dict[str, list[dict[str, Any]]] = json.loads(text)
    return found


def load_demo() -> int:
    """Add the demo skies when the store is empty, with the versions that were kept of them;
    returns how many skies were added."""
    if StoredSky.select().exists():
        return 0
    texts, kept = demo_texts(), demo_versions()
    for slug in reversed(ORDER):
        sky = sky_from_text(texts[slug])
        skies.add_sky(sky, "Demo", slug=slug)
        for version in kept.get(slug, []):
            keep_version(slug, version["name"], with_values(sky, version["values"]))
    return len(ORDER)
