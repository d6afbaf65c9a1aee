"""Versions, references and the overlay drawing that are kept with a sky."""

from __future__ import annotations

from typing import Any

from dovrek.sky.document import Sky
from dovrek.sky.errors import Fault, SkyError
from dovrek.sky.reading import sky_from_text, text_to_keep
from dovrek.store.documents import full_text, kept_of, kept_text
from dovrek.store.skies import load, number_in, stored
from dovrek.store.tables import Overlay, Reference, Version, writing

NAME_LETTERS = 80
KEPT = 40  # references of one sky


class NoSuchThing(LookupError):
    """There is no version or reference of that number with this sky."""


def _name(text: str, what: str) -> str:
    name = " ".join(text.split())[:NAME_LETTERS]
    if not name or not name.isprintable():
        raise SkyError([Fault("name", "(empty)", f"is no name for a {what}", "write a few words")])
    return name


# -- versions -----------------------------------------------------------------------------


def versions(slug: str) -> list[Version]:
    """Versions of a sky, newest first."""
    return list(Version.select().where(Version.sky == stored(slug)).order_by(Version.id.desc()))


def keep_version(slug: str, name: str, sky: Sky | None = None) -> Version:
    """Keep the sky as it stands, or a given state of it, under a name."""
    row = stored(slug)
    document = kept_of(row.head) if sky is None else kept_text(text_to_keep(sky))
    return Version.create(sky=row, name=_name(name, "version"), document=document)


def version(slug: str, number: int) -> Version:
    """Raises NoSuchThing."""
    found = Version.get_or_none((Version.id == number) & (Version.sky == stored(slug)))
    if found is None:
        raise NoSuchThing("This version is no longer kept; choose another.")
    return found


def sky_of(row: Version) -> Sky:
    return sky_from_text(full_text(str(row.document)))


def remove_version(slug: str, number: int) -> None:
    version(slug, number).delete_instance()


def state(slug: str, key: str) -> tuple[str, Sky]:
    """Name and sky of `present` or of a version by its number. Raises NoSuchThing."""
    if key == "present":
        return "the present", load(slug)[0]
    row = version(slug, number_in(key))
    return str(row.name), sky_of(row)


# -- references ---------------------------------------------------------------------------


def reference_names(slug: str) -> list[tuple[int, str]]:
    """Numbers and names of a sky's photographs, newest first, without their pictures."""
    rows: Any = Reference.select(Reference.id, Reference.name).where(
        Reference.sky == stored(slug)).order_by(Reference.id.desc()).tuples()
    return [(int(number), str(name)) for number, name in rows]


def newest_framing(slug: str) -> Any:
    """The photograph added last, without its picture, or None."""
    return Reference.select(
        Reference.id, Reference.horizon, Reference.ratio, Reference.skyline,
        Reference.created).where(Reference.sky == stored(slug)).order_by(
            Reference.id.desc()).first()


def keep_reference(slug: str, name: str, png: bytes, size: tuple[int, int],
                   lens_mm: float | None, note: str, horizon: float) -> Reference:
    row = stored(slug)
    if Reference.select().where(Reference.sky == row).count() >= KEPT:
        raise SkyError([Fault("reference", f"{KEPT} photographs", "are all a sky keeps",
                              "remove one first")])
    more = {} if lens_mm is None else {"lens_mm": lens_mm}
    return Reference.create(sky=row, name=_name(name, "reference"), picture=png, width=size[0],
                            height=size[1], note=note[:200], horizon=horizon, **more)


def reference(slug: str, number: int) -> Reference:
    """Raises NoSuchThing."""
    found = Reference.get_or_none((Reference.id == number) & (Reference.sky == stored(slug)))
    if found is None:
        raise NoSuchThing("This photograph is no longer kept; choose another.")
    return found


def frame_reference(slug: str, number: int, values: dict[str, Any]) -> Reference:
    """Set how a photograph is framed: `lens_mm`, `horizon`, `ratio`, `skyline`."""
    row = reference(slug, number)
    for key, value in values.items():
        setattr(row, key, value)
    row.save()
    return row


def remove_reference(slug: str, number: int) -> None:
    reference(slug, number).delete_instance()


# -- the drawing over the picture ---------------------------------------------------------


def overlay(slug: str) -> Any:
    """The drawing laid over a sky's picture, or None."""
    return Overlay.get_or_none(Overlay.sky == stored(slug))


def keep_overlay(slug: str, name: str, png: bytes) -> None:
    """Put a drawing in the place of the one there was, in one step. Raises SkyError with that one
    still there."""
    name = _name(name, "drawing")
    with writing():
        remove_overlay(slug)
        Overlay.create(sky=stored(slug), name=name, picture=png)


def remove_overlay(slug: str) -> None:
    Overlay.delete().where(Overlay.sky == stored(slug)).execute()
