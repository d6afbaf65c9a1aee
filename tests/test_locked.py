"""What a new machine installs: everything the application names is among the locked releases."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]


def plain(name: str) -> str:
    """A distribution's name as the Python packaging specification normalizes it."""
    return re.sub(r"[-_.]+", "-", name).lower()


def names(requirements: list[str]) -> set[str]:
    found = (re.match(r"[A-Za-z0-9._-]+", line) for line in requirements)
    return {plain(match.group()) for match in found if match}


@pytest.mark.parametrize(("wanted", "lock"), [
    (PROJECT["dependencies"], "requirements.lock"),
    (PROJECT["optional-dependencies"]["test"], "requirements-test.lock")])
def test_all_that_is_needed_is_locked(wanted: list[str], lock: str) -> None:
    assert names(wanted) - names((ROOT / lock).read_text().splitlines()) == set()
