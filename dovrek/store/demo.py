"""The demo: finished skies of a made-up commission, loaded into an empty store."""

from __future__ import annotations

from importlib.resources import files

from dovrek.sky.reading import sky_from_text
from dovrek.store import skies
from dovrek.store.tables import StoredSky

ORDER = ("fair-weather-noon", "last-light", "high-streaks")


def demo_texts() -> dict[str, str]:
    """Sky JSON of every demo sky by slug."""
    folder = files("dovrek.store.demo_skies")
    return {name: folder.joinpath(f"{name}.json").read_text() for name in ORDER}


def load_demo() -> int:
    """Add the demo skies when the store is empty; returns how many were added."""
    if StoredSky.select().exists():
        return 0
    texts = demo_texts()
    for name in reversed(ORDER):
        skies.add_sky(sky_from_text(texts[name]), "Demo", slug=name)
    return len(ORDER)
