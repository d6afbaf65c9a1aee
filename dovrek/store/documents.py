"""Documents as the store keeps them: small, and back to what they were.

Pictures that a document holds are kept once, by their content, and named in it. A revision that is
no longer the last is packed against an earlier whole one of the same sky: steps differ by a few
numbers, so that what is left of most is some tens of bytes (DEFLATE with a preset dictionary,
RFC 1950).
"""

from __future__ import annotations

import hashlib
import re
import zlib
from typing import Any

from dovrek.store.tables import Asset, Revision, StoredSky, revision_of

PICTURE = re.compile(r'"(data:image/(?:png|jpeg);base64,[A-Za-z0-9+/=]{64,})"')
NAMED = re.compile(r'"asset:([0-9a-f]{64})"')
WINDOW = 32_000  # bytes of a basis that DEFLATE can look back on
WHOLE_FROM = 0.25  # a revision that packs no better is kept whole, and is the next one's basis


def kept_text(text: str) -> str:
    """A document's text with its pictures put into the store and named by their content."""
    def keep(found: re.Match[str]) -> str:
        digest = hashlib.sha256(found[1].encode()).hexdigest()
        Asset.insert(digest=digest, data=found[1]).on_conflict_ignore().execute()
        return f'"asset:{digest}"'

    return PICTURE.sub(keep, text) if "data:image/" in text else text


def full_text(text: str) -> str:
    """A kept text with its pictures in it again; one that is gone stays a name, which the sky
    shows as a missing map."""
    def fetch(found: re.Match[str]) -> str:
        row = Asset.get_or_none(Asset.digest == found[1])
        return found[0] if row is None else f'"{row.data}"'

    return NAMED.sub(fetch, text) if '"asset:' in text else text


def document_of(revision: Any) -> str:
    """The document of a revision, whole."""
    return full_text(kept_of(revision))


def kept_of(revision: Any) -> str:
    """The document of a revision as it is kept, unpacked, its pictures by name."""
    if revision.packed is None:
        return str(revision.document)
    basis: Any = revision_of(revision.basis)
    reader = zlib.decompressobj(zdict=str(basis.document).encode()[-WINDOW:])
    return (reader.decompress(bytes(revision.packed)) + reader.flush()).decode()


def pack(revision: Any) -> None:
    """Pack a revision that has been followed by another, if a whole one stands before it."""
    if revision.packed is not None or revision.parent_id is None:
        return
    basis = Revision._meta.database.execute_sql(
        """SELECT b.id, b.document FROM revision p
           JOIN revision b ON b.id = CASE WHEN p.packed IS NULL THEN p.id ELSE p.basis END
           WHERE p.id = ? AND b.packed IS NULL""", (revision.parent_id,)).fetchone()
    if basis is None:
        return
    text = str(revision.document).encode()
    writer = zlib.compressobj(9, zdict=str(basis[1]).encode()[-WINDOW:])
    packed = writer.compress(text) + writer.flush()
    if len(packed) < WHOLE_FROM * len(text):
        revision.document, revision.packed, revision.basis = "", packed, basis[0]
        revision.save()


def bytes_of(sky: StoredSky) -> int:
    """What a sky takes in the store with all its revisions, versions and photographs, without the
    pictures that others may name too."""
    found = sky._meta.database.execute_sql(
        """SELECT coalesce((SELECT sum(length(document) + coalesce(length(packed), 0))
                            FROM revision WHERE sky_id = s.id), 0)
                + coalesce((SELECT sum(length(document)) FROM version WHERE sky_id = s.id), 0)
                + coalesce((SELECT sum(length(picture)) FROM reference WHERE sky_id = s.id), 0)
                + coalesce((SELECT sum(length(picture)) FROM overlay WHERE sky_id = s.id), 0)
                + coalesce(length(s.picture), 0)
           FROM storedsky s WHERE s.id = ?""", (sky.id,)).fetchone()
    return int(found[0])


def sweep_assets() -> int:
    """Remove pictures that no document names any more; returns how many."""
    named: set[str] = set()
    database = Asset._meta.database
    for table, column in (("revision", "document"), ("version", "document"),
                          ("printjob", "document"), ("storedrecipe", "document")):
        for (text,) in database.execute_sql(
                f"SELECT {column} FROM {table} WHERE {column} LIKE '%\"asset:%'"):
            named.update(NAMED.findall(text))
    for row in Revision.select().where(Revision.packed.is_null(False)):
        named.update(NAMED.findall(kept_of(row)))
    gone = [row.id for row in Asset.select(Asset.id, Asset.digest) if row.digest not in named]
    for number in gone:
        Asset.delete().where(Asset.id == number).execute()
    return len(gone)
