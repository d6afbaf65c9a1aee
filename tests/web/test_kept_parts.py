"""What pages keep of what they have worked out: it is what would be worked out anew."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import fields

import pytest
from flask.testing import FlaskClient

from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.errors import SkyError
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import parameters_of
from dovrek.web.composer import overlay, schedule, written
from dovrek.web.live.looks import Look
from dovrek.web.shared.things import HEADS
from dovrek.web.shared.told import Told
from tests.conftest import sky_of
from tests.core.prepare.test_purity import values_other_than
from tests.web.test_web import client, head, post  # noqa: F401  fixtures of the plain pages

TOKEN = re.compile(r'(?<="X-Token": ")[^"]+|(?<=data-token=")[^"]+')

START = sky_of(moment="2026-06-21T19:30", layers=[{"id": "a"}, {"id": "b", "genus": "cirrus"}])


def changed_skies() -> Iterator[tuple[str, Sky]]:
    """The same sky with one parameter changed, for each of them."""
    sky = START
    for model, prefix in ((Layer, "layers[a]."), *(
            (type(getattr(sky, part)), f"{part}.") for parts in HEADS.values() for part in parts)):
        for parameter in parameters_of(model):
            path = f"{prefix}{parameter.path}"
            for value in values_other_than(sky, parameter, path):
                try:
                    yield path, with_values(sky, {path: value})
                except SkyError:
                    continue  # a word that this genus does not have


@pytest.mark.parametrize("view", ["picture", "dome", "fisheye"])
def test_lines_over_a_view_know_all_that_they_hang_on(view: str) -> None:
    """With every change of a sky the lines kept are those drawn anew."""
    overlay._drawn_kept.cache_clear()
    count = 0
    for path, sky in [("nothing", START), *changed_skies()]:
        kept = overlay.overlay_of(sky, Look(view))
        drawn = overlay._drawn(Told(sky), Look(view), sky.air.planet_radius_km)
        assert {f.name: getattr(kept, f.name) for f in fields(kept)} == {
            f.name: getattr(drawn, f.name) for f in fields(drawn)}, path
        count += 1
    found = overlay._drawn_kept.cache_info()
    assert count > 150 and 5 < found.misses < 0.4 * count  # and most changes change none of them


def test_controls_stay_the_same_objects_until_one_changes() -> None:
    known = {g.name: g for g in schedule.sheet_of(START, "layer:a", {}).groups}
    elsewhere = with_values(START, {"air.haze": 0.7, "seed": 9, "layers[b].cover_oktas": 1.0})
    assert all(known[g.name] is g for g in schedule.sheet_of(elsewhere, "layer:a", {}).groups)
    here = with_values(START, {"layers[a].cover_oktas": 6.5})
    rows = {r.path: r for g in schedule.sheet_of(here, "layer:a", {}).groups for r in g.rows}
    assert rows["layers[a].cover_oktas"].text == "6.5"
    feet = schedule.sheet_of(START, "layer:a", {}, "feet").groups
    assert not any(known[g.name] is g for g in feet)
    for _ in range(2):  # what is added to a group is not added to the one that is kept
        place = schedule.sheet_of(START, "site", {}).groups[0]
        assert [row.path for row in place.rows].count("moment") == 1


def test_a_page_shows_each_change_of_its_controls(client: FlaskClient) -> None:  # noqa: F811
    """A value, a key of the clip and the units come into rows that were written before."""
    def page(query: str = "") -> str:
        text: str = client.get(f"/skies/board/?selected=layer:a{query}").get_data(as_text=True)
        return TOKEN.sub("", text)  # the second it was signed in stands in it

    written._written.cache_clear()
    before = page()
    misses = written._written.cache_info().misses
    assert 'value="6.5"' not in before and page() == page()
    assert written._written.cache_info().misses == misses
    said = post(client, "/skies/board/change", {
        "base": head(), "values": {"layers[a].cover_oktas": 6.5}}).json
    assert 'value="6.5"' in page() and " keyed" not in before
    answer = post(client, "/skies/board/key", {"base": said["revision"], "at_s": 1.0,
                                               "path": "layers[a].cover_oktas"})
    assert answer.status_code == 200, answer.json
    assert " keyed" in page()
    client.set_cookie("units", "feet")
    assert '<span class="unit">ft</span>' in page() and " keyed" in page()
