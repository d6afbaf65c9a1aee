"""The pictures a sky names: taken in from beside it, and put beside it in one archive.

A sky with its pictures goes anywhere as a zip: `sky.json`, and what it shows under `pictures/` as
files that any program reads.
"""

from __future__ import annotations

import base64
import io
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path, PurePosixPath

from dovrek.core.clouds.cover_map import grey_of
from dovrek.core.land.map_heights import kept_heights
from dovrek.core.land.world import world_of
from dovrek.core.picture.behind import kept_picture
from dovrek.formats import behind, cover_maps, height_maps, world_maps
from dovrek.sky.behind import BEGINS, BEHIND_LETTERS
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from dovrek.sky.layer import MAP_PREFIX
from dovrek.sky.reading import BYTES_LIMIT, sky_from_text, sky_to_text

FILE_MOST = max(height_maps.BYTES_MOST, behind.BYTES_MOST)
ARCHIVE_MOST = 64 * 2**20
MEMBERS_MOST, UNPACKED_MOST = 40, 200 * 2**20
SKY_NAME, PICTURES = "sky.json", "pictures/"
ZIP, JPEG = b"PK\x03\x04", b"\xff\xd8"


class AssetError(Exception):
    """A picture, or an archive of them, that cannot be taken in; says where, why and what to do."""


def _assets(sky: Sky) -> dict[str, str]:
    """Pictures of a sky by their paths in it."""
    found = {"relief.asset": sky.relief.asset, "relief.picture": sky.relief.picture,
             "behind.asset": sky.behind.asset, "ground.map": sky.ground.map}
    found |= {f"layers[{x.id}].map.asset": x.map.asset for x in sky.layers}
    return {path: asset for path, asset in found.items() if asset}


def _held(asset: str) -> bool:
    return asset.startswith("data:")


def _text_of(path: str, data: bytes, sky: Sky) -> str:
    """A picture's bytes as the document keeps them: as they are if they are what is kept."""
    png = MAP_PREFIX + base64.b64encode(data).decode()
    if path == "relief.asset":
        return png if kept_heights(png) else height_maps.embedded(data).asset
    if path in ("behind.asset", "relief.picture"):
        begin = BEGINS[0] if data.startswith(JPEG) else BEGINS[1]
        text = begin + base64.b64encode(data).decode()
        if len(text) <= BEHIND_LETTERS and kept_picture(text):
            return text
        if path == "relief.picture":
            return behind.colours_of(data)
        return behind.behind_of(data, sky.behind.kind == "dome").asset
    if path == "ground.map":
        return png if world_of(png) is not None else world_maps.embedded(data)
    grey = grey_of(png)
    kept = grey is not None and (grey.min(), grey.max()) == (0.0, 1.0)
    return png if kept else cover_maps.embedded(data)


def taken_in(sky: Sky, read: Callable[[str], bytes]) -> Sky:
    """The sky with the pictures that it names taken in; `read` gives a name's bytes and may raise
    OSError. Raises AssetError, SkyError."""
    values = {}
    for path, name in _assets(sky).items():
        if _held(name):
            continue
        try:
            values[path] = _text_of(path, read(name), sky)
        except OSError as error:
            raise AssetError(f"{path}: {name[:120]}: it cannot be read "
                             f"({error.strerror or error}); check the path") from None
        except (cover_maps.MapError, behind.PhotographError) as error:
            raise AssetError(f"{path}: {name[:120]}: {error}") from None
    return with_values(sky, values) if values else sky


def beside(folder: Path) -> Callable[[str], bytes]:
    """A reader of files beside a sky."""
    def read(name: str) -> bytes:
        with (folder / name).open("rb") as file:
            return file.read(FILE_MOST + 1)

    return read


def packed(sky: Sky) -> bytes:
    """The archive of a sky with its pictures."""
    names: dict[str, str] = {}
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, asset in _assets(sky).items():
            if not _held(asset):
                continue  # a name of what is not at hand stays one
            head, _, text = asset.partition(",")
            what = path.removesuffix(".asset").replace("layers[", "").replace("].map", "-cover")
            what = what.replace("relief.picture", "relief-colours").replace("ground.map", "world")
            names[path] = f"{PICTURES}{what}.{'jpg' if 'jpeg' in head else 'png'}"
            archive.writestr(zipfile.ZipInfo(names[path], (2026, 1, 1, 0, 0, 0)),
                             base64.b64decode(text))
        named = with_values(sky, dict(names)) if names else sky
        entry = zipfile.ZipInfo(SKY_NAME, (2026, 1, 1, 0, 0, 0))
        entry.compress_type = zipfile.ZIP_DEFLATED
        archive.writestr(entry, sky_to_text(named))
    return buffer.getvalue()


def _refuse(archive: zipfile.ZipFile) -> None:
    """Refuse an archive by its list alone: too many, too large, or names that lead outside it."""
    members = archive.infolist()
    if len(members) > MEMBERS_MOST:
        raise AssetError(f"the archive holds {len(members)} files; {MEMBERS_MOST} at most")
    if sum(m.file_size for m in members) > UNPACKED_MOST:
        raise AssetError(f"the archive unpacks to more than {UNPACKED_MOST // 2**20} MB; make its "
                         "pictures smaller")
    for member in members:
        way = PurePosixPath(member.filename)
        if (way.is_absolute() or ".." in way.parts or "\\" in member.filename
                or ":" in member.filename or len(way.parts) > 2):
            raise AssetError(f"the archive names '{member.filename[:60]}', which leads outside it; "
                             "pack it anew")
    if SKY_NAME not in archive.namelist():
        raise AssetError(f"the archive has no {SKY_NAME}; give one that was exported as a sky with "
                         "its pictures")


def _member(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    """A file of an archive, never more of it than is allowed, whatever its list says."""
    try:
        with archive.open(name) as file:
            data = file.read(most + 1)
    except (KeyError, RuntimeError, NotImplementedError, zipfile.BadZipFile, zlib.error, OSError,
            EOFError, ValueError) as error:
        raise OSError(f"not in the archive: {error}") from None
    if len(data) > most:
        raise OSError(f"larger than {most // 2**20} MB")
    return data


def unpacked(data: bytes) -> Sky:
    """The sky of an archive, its pictures taken in. Raises AssetError, SkyError."""
    if len(data) > ARCHIVE_MOST:
        raise AssetError(f"the archive is larger than {ARCHIVE_MOST // 2**20} MB; make its "
                         "pictures smaller")
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError):
        raise AssetError("the archive cannot be read; pack it anew") from None
    with archive:
        _refuse(archive)
        try:
            text = _member(archive, SKY_NAME, BYTES_LIMIT)
        except OSError as error:
            raise AssetError(f"{SKY_NAME}: {error}") from None
        return taken_in(sky_from_text(text), lambda name: _member(archive, name, FILE_MOST))


def sky_of_file(data: bytes) -> Sky:
    """A sky of JSON or of an archive. Raises AssetError, SkyError."""
    return unpacked(data) if data.startswith(ZIP) else sky_from_text(data)
