"""Every way in, with mutated and made-up input: python -m tools.fuzz [cases a reader] [seed].

Readers (sky, recipe, camera, cover map, photograph, drawing) get files that were well and then
bent; every route gets addresses, queries, forms and JSON of odd values. Whatever comes, the answer
is a result or words: no failure of ours (500), no exception but the readers' own, no memory that
grows. The seed makes a run repeatable.
"""

from __future__ import annotations

import io
import json
import random
import resource
import string
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from flask.testing import FlaskClient
from PIL import Image

from dovrek.formats import height_maps
from dovrek.formats.behind import behind_of
from dovrek.formats.cover_maps import MapError, embedded
from dovrek.formats.references import PhotographError, read_drawing, read_reference
from dovrek.settings import Settings
from dovrek.sky.errors import SkyConflict, SkyError
from dovrek.sky.reading import sky_from_data, sky_from_text, sky_to_text, text_to_keep
from dovrek.sky.recipe import recipe_from_text, recipe_of_layer
from dovrek.store import skies, versions
from dovrek.web.app import create_app
from dovrek.web.compare import matching
from dovrek.web.composer import judging, page
from dovrek.web.live.live import Live

Make = Callable[[], Any]
# What answers wait for news: an odd request is not worth waiting for.
WAITS = ((page, "POLL_SECONDS"), (judging, "WAIT_SECONDS"), (matching, "COMPARED_WAIT_S"))
# Routes that begin long work of their own when all is right with the request.
BEGIN_WORK = {"suggesting.begin", "ordering.forecast", "weather.light"}
ODD: list[Any] = [
    None, True, False, 0, -1, 1, 2**31, 2**63, 10**26, 10**400, -10**400, 0.5, 1e308, -1e308,
    5e-324, "", " ", "²", "١٢", "0x10", "1e5", "\ud800", "\u0000", "‮", "a" * 5000,
    "../../etc/passwd", "layers[a].seed", "layers[0]", "layers[", "..", "[]", [],
    {}, [[]], [None] * 70, {"a": {}},
    [[0, 1], [0.5, 2], [1, 0]], "2026-06-21T12:00", "9999-12-31T23:59", "2011-12-30T12:00",
    "Pacific/Apia", "cumulus", "layer:a", "asset:" + "0" * 64, "data:image/png;base64,AAAA"]
WORDS = (
    "base", "values", "note", "gesture", "path", "other", "low", "high", "near", "count",
    "index", "seed", "kind", "layer", "to", "parts", "base_m", "genus", "share", "u", "v", "u0",
    "v0", "heading", "pitch", "name", "notes", "selected", "view", "extent", "alone", "serial",
    "progress", "revision", "have", "touched", "start", "file", "picture", "sky", "width",
    "height", "quality", "format", "ground", "passes", "lens_mm", "horizon", "ratio", "skyline",
    "first", "second", "way", "deleted", "words", "frozen", "hours", "version", "habit",
    "habit_name", "primaries", "faces", "what", "numbers", "voxel_m", "extent_m", "part", "zoom",
    "stops", "around", "lens", "from")
TOLD = 5000


class Failed(AssertionError):
    """Input that was answered by a failure of ours."""


def deep(levels: int) -> str:
    """JSON nested as deep as that."""
    return "[" * levels + "]" * levels


# -- bent files ---------------------------------------------------------------------------


def bent(rng: random.Random, data: bytes) -> bytes:
    """Some bytes of a file flipped, cut, doubled, or replaced by what numbers break at."""
    found = bytearray(data)
    for _ in range(rng.choice((1, 1, 2, 4, 12))):
        at = rng.randrange(len(found) or 1)
        how = rng.randrange(6)
        if how == 0 and found:
            found[at] ^= 1 << rng.randrange(8)
        elif how == 1:
            del found[at : at + rng.choice((1, 2, 7, 100))]
        elif how == 2:
            found[at:at] = found[at : at + rng.choice((1, 8, 64))]
        elif how == 3:
            found[at : at + 4] = rng.choice((b"\xff" * 4, b"\0" * 4, b"\x7f\xff\xff\xff",
                                             b"\x00\x00\x01\x00"))
        elif how == 4:
            found[at : at + 2] = rng.choice((b"{}", b"[]", b'""', b"-1", b"9e", b"\xed\xa0"))
        else:
            del found[at:]
    return bytes(found)


def pictures() -> list[bytes]:
    """Small honest files of every kind that is read."""
    import OpenEXR

    rng = np.random.default_rng(2)
    colours = (rng.random((24, 32, 3)) * 255).astype(np.uint8)
    made = []
    for image, kind in ((Image.fromarray(colours), "PNG"), (Image.fromarray(colours), "JPEG"),
                        (Image.fromarray(colours[..., 0]), "PNG"),
                        (Image.fromarray(colours).convert("P"), "PNG"),
                        (Image.fromarray(colours), "TIFF")):
        file = io.BytesIO()
        image.save(file, kind)
        made.append(file.getvalue())
    for values, how in ((colours.astype(np.uint16) * 257, "zlib"),
                        (colours.astype(np.float32), None)):
        file = io.BytesIO()
        tifffile.imwrite(file, values, photometric="rgb", compression=how)
        made.append(file.getvalue())
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.exr"
        with OpenEXR.File({}, {"RGB": colours.astype(np.float16)}) as out:
            out.write(str(path))
        made.append(path.read_bytes())
    made.append(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 16 +X 16\n" + bytes(4 * 256))
    return made


def readers() -> dict[str, tuple[list[bytes], Callable[[bytes], Any], tuple[type, ...]]]:
    """Every reader of files: what is bent, what reads it, how it may refuse."""
    full = sky_from_data({"dovrek": 1, "name": "Füll", "layers": [
        {"id": "a", "map": {"asset": "shore.png"}, "body": {"profile": [[0, 1], [1, 0]]}},
        {"id": "b", "genus": "cirrus", "varieties": ["radiatus"]}]})
    texts = [sky_to_text(full).encode(), b'{"dovrek": 1}', deep(3000).encode(),
             b'{"dovrek": 1, "seed": ' + b"9" * 5000 + b"}"]

    def sky(data: bytes) -> Any:
        return sky_from_text(text_to_keep(sky_from_text(data)))  # what is kept can be read

    recipe = recipe_of_layer(full, "a", "R", "").text().encode()
    shots = pictures()
    return {"sky": (texts, sky, (SkyError, SkyConflict)),
            "recipe": ([recipe], lambda d: recipe_from_text(recipe_from_text(d).text()),
                       (SkyError,)),
            "cover map": (shots, embedded, (MapError,)),
            "height map": (shots, height_maps.embedded, (MapError,)),
            "behind": (shots, behind_of, (PhotographError,)),
            "photograph": (shots, read_reference, (PhotographError,)),
            "drawing": (shots, read_drawing, (PhotographError,))}


def fuzz_readers(rng: random.Random, cases: int) -> Iterator[str]:
    """Bend files for every reader; a line on each. Raises Failed."""
    for name, (samples, read, refusals) in readers().items():
        said: Counter[str] = Counter()
        for _ in range(cases):
            data = bent(rng, rng.choice(samples))
            try:
                read(data)
                said["taken"] += 1
            except refusals as error:
                said["refused"] += 1
                str(error).encode()  # its words can be sent
            except BaseException as error:
                raise Failed(f"{name}: {type(error).__name__}: {error}\n{data[:400]!r}") from error
        yield f"{name}: {said['taken']} taken, {said['refused']} refused"


# -- odd requests -------------------------------------------------------------------------


def value(rng: random.Random) -> Any:
    how = rng.randrange(8)
    if how < 6:
        return rng.choice(ODD)
    if how == 6:
        return rng.uniform(-1e4, 1e4)
    return "".join(rng.choices(string.printable + "äß☁😀", k=rng.randrange(40)))


def body(rng: random.Random, base: int) -> Any:
    """A JSON body of odd values under names that are known, or something else altogether."""
    if rng.random() < 0.08:
        return value(rng)
    made = {rng.choice(WORDS): value(rng) for _ in range(rng.randrange(7))}
    if rng.random() < 0.8:
        made["base"] = base
    if rng.random() < 0.5:
        paths = ("seed", "name", "moment", "site.timezone", "layers", "layers[a].cover_oktas",
                 "layers[a].body.profile", "layers[a].map.asset", "layers[0].seed", "camera",
                 "film.exposure_ev", "layers[a]", "layers[a].varieties", "site", "", "a..b")
        made["values"] = {rng.choice(paths): value(rng) for _ in range(rng.randrange(1, 4))}
    return made


class Doors:
    """The application over a home of its own, and one request after another at its routes."""

    def __init__(self, home: Path) -> None:
        settings = Settings(home=home)
        settings.make_folders()
        self.waits = [(m, name, getattr(m, name)) for m, name in WAITS]
        for module, name in WAITS:
            setattr(module, name, 0.0)
        self.live = Live(1)  # not started: no picture is made
        self.app = create_app(settings, self.live)
        self.client: FlaskClient = self.app.test_client()
        self.rules = [r for r in self.app.url_map.iter_rules() if r.endpoint not in BEGIN_WORK]
        self.shots = pictures()
        self.files = [*self.shots, b"", b"{", deep(5000).encode(), b'{"dovrek": 1}',
                      b'{"camera": {"lens_mm": "wide"}}', b"\xff\xfe"]

    def settle(self) -> None:
        """Have the sky there that most addresses name."""
        try:
            skies.stored("board")
            return
        except skies.NoSuchSky:
            pass
        try:
            skies.restore("board")
        except skies.NoSuchSky:
            skies.add_sky(sky_from_data({"dovrek": 1, "name": "Board", "layers": [
                {"id": "a"}, {"id": "b", "genus": "cirrus"}]}), slug="board")
            versions.keep_version("board", "kept")

    def token(self) -> str:
        text = self.client.get("/recipes").get_data(as_text=True)
        return text.split('data-token="')[1].split('"')[0]

    def request(self, rng: random.Random, token: str, base: int) -> tuple[str, int, str]:
        """One odd request; its method and address, status, and the answer's beginning."""
        rule = rng.choice(self.rules)
        method = rng.choice(sorted(rule.methods - {"OPTIONS", "HEAD"}))
        address = rule.rule
        for name in rule.arguments:
            known = {"slug": "board", "layer_id": "a", "key": "fair-weather", "number": "1",
                     "room": "shared", "name": "board.css", "serial": "1"}.get(name, "x")
            odd = str(rng.choice(["9" * 26, "²", "-1", "0", "a" * 300, "..%2f..", "%00",
                                  "%ed%a0%80", "own-1", "own-²", "none", "1"]))
            chosen = known if rng.random() < 0.7 else odd
            for kind in ("", "int:", "path:"):
                address = address.replace(f"<{kind}{name}>", chosen)
        query = {w: str(value(rng)).encode("utf-8", "replace").decode()
                 for w in rng.sample(WORDS, rng.randrange(3))}
        sent: dict[str, Any] = {"query_string": query, "headers": {"X-Token": token}}
        how = rng.random()
        if method != "GET" and how < 0.6:
            try:
                text = json.dumps(body(rng, base))
            except ValueError:
                text = deep(5000)
            sent |= {"data": text if rng.random() < 0.97 else deep(5000),
                     "content_type": "application/json"}
        elif method != "GET":
            form = {w: str(value(rng)).encode("utf-8", "replace").decode()
                    for w in rng.sample(WORDS, rng.randrange(6))}
            if rng.random() < 0.6:
                form["base"] = str(base)
            files: dict[str, Any] = {w: (io.BytesIO(bent(rng, rng.choice(self.files))), "a.png")
                                     for w in rng.sample(("file", "picture"), rng.randrange(3))}
            sent |= {"data": form | files, "content_type": "multipart/form-data"}
        answer = self.client.open(address, method=method, **sent)
        found = f"{method} {address}", answer.status_code, answer.get_data()[:200].decode(
            "utf-8", "replace")
        answer.close()
        return found

    def close(self) -> None:
        self.live.close()
        for module, name, seconds in self.waits:
            setattr(module, name, seconds)


def fuzz_routes(rng: random.Random, cases: int, home: Path) -> Iterator[str]:
    """Odd requests at every route. Raises Failed."""
    doors = Doors(home)
    said: Counter[int] = Counter()
    try:
        for case in range(cases):
            with skies.database.connection_context():
                doors.settle()
                base = skies.stored("board").head_id or 0
            if case % 200 == 0:
                token = doors.token()
            state = rng.getstate()
            where, status, text = doors.request(rng, token, base)
            said[status] += 1
            if case % TOLD == TOLD - 1:  # it takes an hour: how far it came is told
                print(f"{case + 1} requests, at most {taken_mb():.0f} MB", file=sys.stderr,
                      flush=True)
            if status >= 500 and status != 503:  # still being made
                raise Failed(f"case {case}: {where}: {status} {text}\nstate {hash(state)}")
    finally:
        doors.close()
    yield "routes: " + ", ".join(f"{n} × {status}" for status, n in sorted(said.items()))


def taken_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    cases = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    rng, start, before = random.Random(seed), time.monotonic(), taken_mb()
    with tempfile.TemporaryDirectory() as folder:
        for line in fuzz_routes(rng, cases, Path(folder) / "home"):
            print(line, flush=True)
        for line in fuzz_readers(rng, cases):
            print(line, flush=True)
    print(f"seed {seed}, {time.monotonic() - start:.0f} s, memory from {before:.0f} to at most "
          f"{taken_mb():.0f} MB")


if __name__ == "__main__":
    main()
