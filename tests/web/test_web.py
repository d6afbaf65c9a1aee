"""Pages and answers without a browser: words, tokens, limits."""

from __future__ import annotations

import io
import re
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.settings import Settings
from dovrek.store import print_jobs as jobs
from dovrek.store import skies
from dovrek.store.tables import open_database
from dovrek.web.app import create_app
from dovrek.web.composer import section
from dovrek.web.composer.panels import PANELS, stale
from dovrek.web.composer.schedule import sheet_of
from dovrek.web.live.live import Live
from dovrek.web.live.looks import size_for
from dovrek.web.shared import rooms
from dovrek.web.shared.security import secret_key
from dovrek.web.skies import gallery
from tests.conftest import sky_of


@pytest.fixture()
def client(store: Settings, live: Live) -> FlaskClient:
    app = create_app(store, live)
    skies.add_sky(sky_of(name="Board", layers=[{"id": "a"}, {"id": "b", "genus": "cirrus"}]))
    return app.test_client()


def token(client: FlaskClient) -> str:
    page = client.get("/").get_data(as_text=True)
    found = re.search(r'data-token="([^"]+)"', page)
    assert found
    return found[1]


def post(client: FlaskClient, path: str, body: Any) -> Any:
    return client.post(path, json=body, headers={"X-Token": token(client)})


def head(slug: str = "board") -> int:
    return skies.load(slug)[1]


def test_pages_answer_with_strict_headers(client: FlaskClient) -> None:
    for path in ("/", "/skies/board/", "/prints", "/prints/queue", "/skies/board/panels",
                 "/skies/board/ribbon.png", "/skies/board/export.json"):
        answer = client.get(path)
        assert answer.status_code == 200, path
        policy = answer.headers["Content-Security-Policy"]
        assert "script-src 'self'" in policy and "unsafe" not in policy
    page = client.get("/skies/board/").get_data(as_text=True)
    assert " style=" not in page and "<script>" not in page and " onclick" not in page
    assert not re.search(r'(src|href)="https?://', page)


@pytest.mark.parametrize("torn", [None, b"", b"no template"])
def test_pages_are_written_with_or_without_a_folder_for_compiled_templates(
        store: Settings, live: Live, monkeypatch: pytest.MonkeyPatch, tmp_path: Path,
        torn: bytes | None) -> None:
    folder = tmp_path / "kept"
    folder.mkdir()
    for kept in (folder, folder, tmp_path / "none" / "such"):
        monkeypatch.setattr(rooms, "FOLDER", kept)
        assert create_app(store, live).test_client().get("/guide").status_code == 200
        compiled = list((folder / "templates").iterdir())
        assert {path.suffix for path in compiled} == {".cache"}
        if torn is not None:
            compiled[0].write_bytes(torn)


def test_changes_are_stored_at_once(client: FlaskClient) -> None:
    answer = post(client, "/skies/board/change",
                  {"base": head(), "values": {"layers[a].base_m": 1500}, "note": "Base"})
    assert answer.status_code == 200 and answer.json["revision"] == head()
    assert skies.load("board")[0].layers[0].base_m == 1500
    assert post(client, "/skies/board/undo", {"base": head()}).status_code == 200
    assert skies.load("board")[0].layers[0].base_m == 1100
    assert post(client, "/skies/board/redo", {"base": head()}).status_code == 200
    assert "nothing to redo" in post(client, "/skies/board/redo", {"base": head()}).json["note"]


@pytest.mark.parametrize(("body", "status", "part"), [
    ({"values": {"air.haze": 0.2}}, 422, "base"),
    ({"base": 1, "values": {}}, 422, "values"),
    ({"base": 1, "values": {"air.haze": 7}}, 422, "0 to 2"),
    ({"base": 1, "values": {"layers[zz].seed": 7}}, 409, "no layer zz"),
    ({"base": 987654, "values": {"seed": 7}}, 409, "reload"),
    ("nonsense", 422, "base"),
])
def test_refused_changes_say_why(client: FlaskClient, body: Any, status: int, part: str) -> None:
    if isinstance(body, dict) and body.get("base") == 1:
        body["base"] = head()
    before = head()
    answer = post(client, "/skies/board/change", body)
    assert answer.status_code == status and part in answer.json["error"]
    assert head() == before


def test_cover_maps_are_taken_in_or_refused(client: FlaskClient) -> None:
    """A grey picture becomes part of the layer; what is none is refused, and nothing changes."""
    def send(data: bytes) -> Any:
        return client.post("/skies/board/layers/a/map", data={
            "base": str(head()), "picture": (io.BytesIO(data), "shore.png")},
            headers={"X-Token": token(client)})

    picture = io.BytesIO()
    Image.fromarray((np.arange(4096).reshape(64, 64) // 16).astype(np.uint8)).save(picture, "PNG")
    before = head()
    refused = send(b"nothing of the kind")
    assert refused.status_code == 422 and "shore.png" in refused.json["error"]
    assert head() == before
    assert send(picture.getvalue()).status_code == 200
    assert skies.load("board")[0].layers[0].map.asset.startswith("data:image/png;base64,")
    page = client.get("/skies/board/?selected=layer:a").get_data(as_text=True)
    assert "Replace…" in page and "base64" not in page
    large = send(b"\x00" * (42 * 2**20))
    assert large.status_code == 413 and "40 MB" in large.json["error"]


def test_two_windows(client: FlaskClient) -> None:
    seen = head()
    post(client, "/skies/board/change", {"base": seen, "values": {"layers[a].cover_oktas": 6}})
    told = post(client, "/skies/board/change", {"base": seen, "values": {"air.haze": 0.4}})
    assert told.json["others"] == ["Cover of cumulus"]


def test_the_hour_stays_within_its_date(client: FlaskClient) -> None:
    for share, clock in ((0.0, "00:00"), (0.5, "12:00"), (1.0, "23:59")):
        assert post(client, "/skies/board/hour",
                    {"base": head(), "share": share}).status_code == 200
        assert skies.load("board")[0].moment == f"2026-06-21T{clock}"
    assert post(client, "/skies/board/hour", {"base": head(), "share": "x"}).status_code == 422


def test_layers_by_request(client: FlaskClient) -> None:
    added = post(client, "/skies/board/layers", {"base": head(), "genus": "stratus"})
    assert added.json["selected"] == "layer:layer-1"
    post(client, "/skies/board/layers/a/duplicate", {"base": head()})
    post(client, "/skies/board/layers/b/remove", {"base": head()})
    assert [x.genus for x in skies.load("board")[0].layers] == ["cumulus", "stratus", "cumulus"]
    assert post(client, "/skies/board/layers", {"base": head(), "genus": "fluff"}
                ).status_code == 422


def test_forged_and_foreign_requests_are_refused(client: FlaskClient) -> None:
    assert client.post("/skies/board/undo", json={"base": 1}).status_code == 403
    assert client.post("/skies/board/delete", data={"token": "guess"}).status_code == 403
    assert client.get("/", headers={"Host": "evil.example"}).status_code == 403
    assert skies.stored("board").slug == "board"


@pytest.mark.parametrize(("data", "status", "part"), [
    (b"{broken", 422, "not readable JSON"), (b'{"dovrek": 1, "laysers": []}', 422, "layers?"),
    (b"\x00\xff", 422, "UTF-8"), (b"", 422, "not readable"),
    (b"x" * (100 << 20), 413, "too large"),
])
def test_bad_imports(client: FlaskClient, data: bytes, status: int, part: str) -> None:
    count = len(skies.gallery())
    answer = client.post("/skies/import", data={"token": token(client),
                                                "file": (io.BytesIO(data), "a.json")},
                         headers={"X-Token": token(client)})
    assert answer.status_code == status and part in answer.json["error"]
    assert len(skies.gallery()) == count


def test_import_export_rename_duplicate_delete(client: FlaskClient) -> None:
    text = client.get("/skies/board/export.json").get_data(as_text=True)
    form = {"token": token(client)}
    client.post("/skies/import", data=form | {"file": (io.BytesIO(text.encode()), "b.json")})
    assert skies.load("board-2")[0] == skies.load("board")[0]
    client.post("/skies/board-2/rename", data=form | {"name": "Other <b>"})
    assert "Other &lt;b&gt;" in client.get("/").get_data(as_text=True)
    client.post("/skies/board-2/duplicate", data=form)
    page = client.post("/skies/board-2/delete", data=form, follow_redirects=True)
    assert "Undo" in page.get_data(as_text=True)
    client.post("/skies/board-2/restore", data=form)
    assert len(skies.gallery()) == 3
    assert client.get("/skies/none/").status_code == 404


def test_a_wall_of_many_skies_comes_in_parts(client: FlaskClient) -> None:
    for k in range(2 * gallery.HUNG):
        skies.add_sky(sky_of(name=f"Study {k} & more"))
    found: list[str] = []
    path = "/"
    while path:  # as by its links
        page = client.get(path).get_data(as_text=True)
        found += re.findall(r'<input id="name-([^"]+)"', page)
        older = re.search(r'<a href="(/\?[^"]+)">Skies changed before', page)
        path = older[1].replace("&amp;", "&") if older else ""
    assert len(found) == len(set(found)) == 2 * gallery.HUNG + 1 and found[-1] == "board"
    part = client.get("/?words=STUDY+1", headers={"HX-Request": "true"}).get_data(as_text=True)
    assert part.lstrip().startswith('<div id="sky-wall"') and 'value="Study 11 &amp; more"' in part
    assert 'name-study-2-more' not in part
    older = re.search(r'class="older" hx-get="([^"]+)"',
                      client.get("/?words=study").get_data(as_text=True))
    assert older and "words=study" in older[1]
    hung = client.get(older[1].replace("&amp;", "&"), headers={"HX-Request": "true"})
    assert hung.get_data(as_text=True).lstrip().startswith("<li")  # goes on where the wall ends
    assert "holds “dusk”" in client.get("/?words=dusk").get_data(as_text=True)
    east, west = (client.get(f"/?before=2026-01-01T00:00:00{zone}").status_code
                  for zone in ("%2B02:00", "-08:00"))
    assert east == west == 200
    refused = client.get("/?before=yesterday")
    assert refused.status_code == 422 and "yesterday" in refused.get_data(as_text=True)


def test_print_orders(client: FlaskClient) -> None:
    form = {"token": token(client), "width": "64", "height": "36", "format": "png-16"}
    page = client.post("/skies/board/prints", data=form, follow_redirects=True)
    assert "waiting" in page.get_data(as_text=True)
    refused = client.post("/skies/board/prints", data=form | {"width": "17000"})
    assert refused.status_code == 422 and "16384" in refused.get_data(as_text=True)
    number = jobs.all_jobs()[0].id
    assert client.get(f"/prints/{number}/file").status_code == 404
    client.post(f"/prints/{number}/cancel", data={"token": token(client)})
    assert jobs.job(number).state == jobs.CANCELLED


def test_section_scale_inverts_and_bands_do_not_overlap() -> None:
    for altitude in (0, 120, 900, 2500, 9000, 13_900):
        assert section.altitude_of(section.y_of(altitude)) == pytest.approx(altitude, abs=1)
    drawn = section.bands(sky_of(layers=[{"id": "a", "base_m": 1000, "thickness_m": 1000},
                                         {"id": "b", "base_m": 1500, "thickness_m": 1000}]))
    assert drawn[0].x + drawn[0].width <= drawn[1].x


def test_schedule_shows_what_the_genus_has() -> None:
    sky = sky_of(layers=[{"id": "a", "genus": "cumulus"}, {"id": "b", "genus": "cirrus"}])
    paths = {name: {r.path for group in sheet_of(sky, f"layer:{name}", {}).groups
                    for r in group.rows} for name in "ab"}
    assert "layers[a].body.lobes" in paths["a"] and "layers[b].wind.comb" in paths["b"]
    assert "layers[b].body.growth" not in paths["b"]
    assert "layers[a].body.growth" in paths["a"]


def test_frames_keep_the_aspect() -> None:
    assert size_for(16 / 9, 480) == (480, 270)
    w, h = size_for(0.5, 480)
    assert w / h == pytest.approx(0.5, abs=0.02) and w * h == pytest.approx(480 * 270, rel=0.05)


@pytest.mark.parametrize("genus", ["cumulus", "stratus", "cirrus", "cumulonimbus"])
def test_the_schedule_writes_values_as_they_are(genus: str) -> None:
    """Every step of every number can be read: 2.25 oktas are not shown as 2.2."""
    sky = sky_of(layers=[{"id": "a", "genus": genus, "cover_oktas": 2.25}])
    rows = [r for group in sheet_of(sky, "layer:a", {}).groups for r in group.rows]
    numbers = [r for r in rows if isinstance(r.value, float)]
    assert len(numbers) > 15
    for row in numbers:
        step = row.parameter.step or 0.01
        assert float(row.text) == pytest.approx(row.value, abs=0.3 * step), row.path
    assert next(r.text for r in rows if r.path == "layers[a].cover_oktas") == "2.25"


def test_a_panel_asked_for_alone_is_as_in_the_whole(client: FlaskClient,
                                                    monkeypatch: pytest.MonkeyPatch) -> None:
    """Each panel works out what it needs, and nothing of another's."""
    whole = client.get("/skies/board/panels").get_data(as_text=True)
    for name, panel in PANELS.items():
        monkeypatch.setitem(PANELS, name, replace(panel, shows=frozenset({"this"})))
        alone = client.get("/skies/board/panels?touched=this").get_data(as_text=True).strip()
        assert len(alone) > 60 and alone in whole, name
        monkeypatch.setitem(PANELS, name, panel)
    assert client.get("/skies/board/panels?touched=nothing").get_data(as_text=True).strip() == ""


@pytest.mark.parametrize(("values", "touched", "panels"), [
    ({"layers[a].base_m": 1500}, {"steps", "layers"},
     {"section", "schedule", "title", "overlay", "clip", "advisories"}),
    ({"film.contrast": 1.2}, {"steps", "film"}, {"schedule", "title", "advisories"}),
    ({"moment": "2026-06-21T09:00"}, {"steps", "moment"},
     {"schedule", "title", "ribbon", "overlay", "advisories"}),
    ({"name": "Other"}, {"steps", "name"}, {"schedule", "title", "advisories"}),
])
def test_what_a_change_touched_says_which_panels_are_stale(
        client: FlaskClient, values: dict[str, Any], touched: set[str], panels: set[str]) -> None:
    said = post(client, "/skies/board/change", {"base": head(), "values": values}).json
    assert set(said["touched"]) == touched
    assert set(stale(said["touched"])) == panels
    assert set(stale(post(client, "/skies/board/undo", {"base": head()}).json["touched"])) == panels


def test_a_window_left_open_is_told_what_another_changed(client: FlaskClient) -> None:
    """What was touched counts from the revision that the window had."""
    had = head()
    post(client, "/skies/board/change", {"base": had, "values": {"air.haze": 0.4}})
    late = post(client, "/skies/board/change", {"base": had, "values": {"film.contrast": 1.2}})
    assert set(late.json["touched"]) == {"steps", "air", "film"}


def test_a_token_of_another_visit_is_exchanged(client: FlaskClient, store: Settings,
                                               live: Live, tmp_path: Path) -> None:
    """A visit without the cookie, and a second home on another port (browsers send it the same
    cookies), leave windows that are open as they were; a script with a lost token is given one."""
    open_window = token(client)
    create_app(store, live).test_client().get("/")  # a visit without the cookie
    other = Settings(home=tmp_path / "other")
    other.make_folders()
    second = create_app(other, live)
    assert second.config["SESSION_COOKIE_NAME"] != client.application.config["SESSION_COOKIE_NAME"]
    open_database(store.database)

    def undo(with_token: str) -> Any:
        return client.post("/skies/board/undo", json={"base": head()},
                           headers={"X-Token": with_token})

    assert undo(open_window).status_code == 200
    client.delete_cookie(client.application.config["SESSION_COOKIE_NAME"])
    lost = undo(open_window)
    assert lost.status_code == 403 and undo(lost.json["token"]).status_code == 200


def test_a_secret_that_was_only_half_written_is_made_anew(tmp_path: Path) -> None:
    for torn in (b"", b"\x01" * 7):
        (tmp_path / "secret").write_bytes(torn)
        made = secret_key(tmp_path)
        assert len(made) == 32 and secret_key(tmp_path) == made
        assert (tmp_path / "secret").stat().st_mode & 0o077 == 0


def test_the_first_page_waits_for_no_part_of_scipy() -> None:
    """They take a second to load, several where no file of theirs was read before."""
    said = subprocess.run(
        [sys.executable, "-c", "import sys, dovrek.web.server;"
         "print([part for part in ('ndimage', 'interpolate', 'optimize')"
         " if f'scipy.{part}' in sys.modules])"], capture_output=True, text=True, check=True)
    assert said.stdout.strip() == "[]"
