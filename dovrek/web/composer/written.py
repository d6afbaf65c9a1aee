"""Controls as they are written on the page, kept: a page shows a hundred, of which a change changes
one or two."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from functools import lru_cache, partial

from flask import render_template
from markupsafe import Markup

from dovrek.web.composer.schedule import Group

KEPT = 400  # groups, of about ten thousand characters each
Names = tuple[tuple[int, str], ...]


def writer(keyed: Collection[str], references: Sequence[tuple[int, str]]) -> Callable[[Group],
                                                                                      Markup]:
    """What writes a group's rows; `keyed` are paths that a clip moves, `references` the numbers and
    names of what a sky is compared with."""
    return partial(_of, keyed, tuple(references))


def _of(keyed: Collection[str], references: Names, group: Group) -> Markup:
    return _written(group, frozenset(row.path for row in group.rows if row.path in keyed),
                    references)


@lru_cache(KEPT)
def _written(group: Group, keyed: frozenset[str], references: Names) -> Markup:
    return Markup(render_template("rows.html", rows=group.rows, keyed=keyed,
                                  references=references))
