"""What tests of pages share."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from dovrek.web.live.live import Live


@pytest.fixture(scope="module")
def live() -> Iterator[Live]:
    """A live picture that is not started: pages must answer without one."""
    made = Live(1)
    yield made
    made.studio.close()
