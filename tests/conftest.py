"""What tests share: one studio for all, small skies, a store in a folder of its own."""

from __future__ import annotations

import io
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from xdist.scheduler import LoadFileScheduling

from dovrek.core.picture.studio import Studio
from dovrek.core.run.workers import Cancel
from dovrek.settings import Settings
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_from_data


def sky_of(**parts: Any) -> Sky:
    return sky_from_data({"dovrek": 1, **parts})


def long(*values: Any) -> Any:
    """Values of a test that only `make long` runs: others stand for them from day to day."""
    return pytest.param(*values, marks=pytest.mark.long)


def free_sun(elevation: float, **parts: Any) -> Sky:
    """A sky whose sun stands at an apparent elevation, bearing south."""
    return sky_of(sun={"mode": "free", "elevation_deg": elevation, "azimuth_deg": 180}, **parts)


WAITING = ("harness", "web", "prints", "formats", "store", "test_")  # rooms whose tests wait for
# servers, browsers and other processes, the longest first; those of the core compute


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    items.sort(key=lambda item: next((k for k, room in enumerate(WAITING)
                                      if item.nodeid.startswith(f"tests/{room}")), len(WAITING)))


class FromBothEnds(LoadFileScheduling):
    """Files dealt whole, from both ends of the line: while one worker waits the other computes."""

    def _assign_work_unit(self, node: Any) -> None:
        if self.nodes.index(node) % 2:
            self.workqueue.move_to_end(next(reversed(self.workqueue)), last=False)
        super()._assign_work_unit(node)


@pytest.hookimpl(optionalhook=True)  # also without the scheduler: -p no:xdist
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> FromBothEnds:
    return FromBothEnds(config, log)


@pytest.fixture(scope="session")
def studio() -> Iterator[Studio]:
    made = Studio(2)
    yield made
    made.close()


@pytest.fixture()
def cancel() -> Cancel:
    return Cancel()


@pytest.fixture()
def home(tmp_path: Path) -> Settings:
    settings = Settings(home=tmp_path / "home")
    settings.make_folders()
    return settings


@pytest.fixture()
def store(home: Settings) -> Iterator[Settings]:
    from dovrek.store.tables import open_database

    database = open_database(home.database)
    database.connect(reuse_if_open=True)
    yield home
    if not database.is_closed():
        database.close()


# -- the application in Chromium ----------------------------------------------------------


@pytest.fixture(scope="session")
def demo_home(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A home that holds the demo skies, and one of a single veil, soon built: for what is asked of
    any sky. Each has a grey picture for the gallery: a server over it need not render them all
    beside what a test waits for."""
    from dovrek.store import skies
    from dovrek.store.demo import load_demo
    from dovrek.store.tables import open_database

    made, grey = Settings(home=tmp_path_factory.mktemp("demo") / "home"), io.BytesIO()
    made.make_folders()
    Image.new("RGB", (32, 18), (128, 128, 128)).save(grey, "PNG")
    database = open_database(made.database)
    with database.connection_context():
        load_demo()
        skies.add_sky(sky_of(name="Veil", layers=[{"id": "veil", "genus": "cirrus"}]), slug="veil")
        for row in skies.gallery():
            skies.keep_picture(row.slug, row.head_id, grey.getvalue())
    return made.home


@pytest.fixture(scope="module")
def server(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory,
           demo_home: Path) -> Iterator[Any]:
    """A server with a store of its own for each module of interface tests, as `dovrek demo` starts
    it: their order does not matter. A module's REFINE says how far its pictures are refined."""
    from tests.chromium import Server

    home = tmp_path_factory.mktemp("served")
    shutil.copytree(demo_home, home, dirs_exist_ok=True)
    made = Server(home, getattr(request.module, "REFINE", "sketch"))
    made.start()
    yield made
    made.kill()


@pytest.fixture(scope="session")
def browser() -> Iterator[Any]:
    from playwright.sync_api import sync_playwright

    from tests.chromium import CHROMIUM, FLAGS

    with sync_playwright() as playwright:
        made = playwright.chromium.launch(executable_path=str(CHROMIUM), args=FLAGS)
        yield made
        made.close()


SHOWN = """() => ['#notice', '#quality', '#title'].map((at) => `${at}: ${
    document.querySelector(at)?.textContent.replace(/\\s+/g, ' ').trim()}`).join('\\n')
    + `\\nfocus: ${document.activeElement?.outerHTML.slice(0, 160)}`"""


@pytest.fixture()
def page(browser: Any) -> Iterator[Any]:
    """A window of 1280 × 800 in which no script fails and no policy is broken."""
    opened = browser.new_page(viewport={"width": 1280, "height": 800})
    errors: list[str] = []
    opened.talk = []  # what was asked and has failed, or changes something
    opened.on("requestfailed", lambda r: opened.talk.append(f"lost {r.method} {r.url}"))
    opened.on("response", lambda r: opened.talk.append(f"{r.status} {r.request.method} {r.url}")
              if r.status >= 400 or r.request.method == "POST" else None)
    opened.on("pageerror", lambda e: errors.append(str(e)))
    opened.on("console", lambda m: errors.append(m.text) if "Security Policy" in m.text else None)
    yield opened
    opened.close()
    assert errors == []


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Iterator[None]:
    """A failed interface test says what its window showed."""
    outcome: Any = yield
    report = outcome.get_result()
    opened = getattr(item, "funcargs", {}).get("page")
    if report.when == "call" and report.failed and opened is not None:
        try:
            shown = str(opened.evaluate(SHOWN))
        except Exception as error:  # a page under way to another tells nothing
            shown = f"nothing to be read: {error}"
        report.sections.append(("the window", "\n".join([*opened.talk[-12:], shown])))
