"""Versions and reference photographs: kept, read, framed, measured."""

from __future__ import annotations

import io
import re
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.core.photo.likeness import RATIO, horizon_of, likeness_of, mask_overlay
from dovrek.store import skies as store_skies
from dovrek.store.versions import reference
from dovrek.web.shared.photographs import reference_cover
from tests.web.test_judging import client, head, live, png, post, token, upload  # noqa: F401

# -- versions and references --------------------------------------------------------------


def test_a_version_is_kept_taken_and_undone(client: FlaskClient) -> None:
    said = post(client, "/skies/board/versions", {"name": "Before lunch"}).get_json()
    post(client, "/skies/board/change", {"base": head(), "values": {"air.haze": 0.9}})
    post(client, f"/skies/board/versions/{said['id']}/take", {"base": head()})
    assert store_skies.load("board")[0].air.haze == 0.1
    post(client, "/skies/board/undo", {"base": head()})
    assert store_skies.load("board")[0].air.haze == 0.9
    assert post(client, "/skies/board/versions", {"name": "  "}).status_code == 422
    page = client.get("/skies/board/compare").get_data(as_text=True)
    assert "Before lunch" in page
    assert client.get("/skies/board/compare?second=version-99").status_code == 404


def jpeg_turned() -> bytes:
    image = Image.new("RGB", (80, 40), (80, 120, 200))
    exif = Image.Exif()
    exif[0x0112] = 6  # EXIF 2.3: row 0 is the right side
    buffer = io.BytesIO()
    image.save(buffer, "JPEG", exif=exif)
    return buffer.getvalue()


def tiff(values: np.ndarray) -> bytes:
    import tifffile

    buffer = io.BytesIO()
    tifffile.imwrite(buffer, values)
    return buffer.getvalue()


@pytest.mark.parametrize("name, data, size", [
    ("a.png", png(), (64, 36)),
    ("turned.jpg", jpeg_turned(), (40, 80)),
    ("grey.png", png(mode="L"), (64, 36)),
    ("inks.jpg", png((64, 36), (120, 40, 10, 0), "CMYK", "JPEG"), (64, 36)),
    ("deep.tif", tiff(np.full((36, 64, 3), 30_000, np.uint16)), (64, 36)),
    ("float.tif", tiff(np.linspace(0, 4, 36 * 64 * 3, dtype=np.float32).reshape(36, 64, 3)),
     (64, 36)),
])
def test_references_of_every_kind(client: FlaskClient, name: str, data: bytes,
                                  size: tuple[int, int]) -> None:
    assert upload(client, "/skies/board/references", name, data).status_code == 302
    image = Image.open(io.BytesIO(client.get("/skies/board/references/1.png").data))
    assert image.size == size and image.mode == "RGB"


def huge_png() -> bytes:
    import struct
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(
            ">I", zlib.crc32(kind + data))

    rows = zlib.compress(bytes(1000))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(
        ">IIBBBBB", 20_000, 20_000, 8, 2, 0, 0, 0)) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


@pytest.mark.parametrize("name, data, part", [
    ("words.jpg", b"no picture at all", "cannot be read"),
    ("none.png", b"", "empty"),
    ("huge.png", huge_png(), "20,000 × 20,000"),
    ("cut.jpg", jpeg_turned()[:200], "cannot be read"),
    ("odd.exr", b"\x76\x2f\x31\x01broken", "cannot be read"),
    ("odd.hdr", b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 9 -X 9\n", "upright"),
])
def test_what_is_no_reference_is_refused_in_words(client: FlaskClient, name: str, data: bytes,
                                                  part: str) -> None:
    said = upload(client, "/skies/board/references", name, data)
    assert said.status_code == 422 and part in said.get_json()["error"]
    assert name in said.get_json()["error"]


def test_linear_references_are_read_as_written(tmp_path: Any) -> None:
    """Our own writers, which independent readers check elsewhere, against this reader."""
    from dovrek.formats.kinds.format import Developing
    from dovrek.formats.pictures import write_picture
    from dovrek.formats.references import read_reference

    light = np.ones((24, 40, 5), dtype=np.float32) * 800.0
    light[:, 20:] *= 4.0
    for name in ("a.hdr", "a.exr"):
        write_picture(tmp_path / name, light, Developing(12.0, 5600.0))
        found = read_reference((tmp_path / name).read_bytes()).pixels
        assert found.shape == (24, 40, 3) and found[0, -1].mean() > found[0, 0].mean() + 40


def test_the_newest_photograph_gives_the_cover_to_reach(client: FlaskClient) -> None:
    assert reference_cover("board") is None
    upload(client, "/skies/board/references", "blue.png", png())
    assert reference_cover("board")[0] == 0.0
    upload(client, "/skies/board/references", "grey.png", png(colour=(150, 150, 150)))
    assert reference_cover("board") == (8.0, RATIO)
    sent = {"token": token(client), "ratio": "1.2"}
    client.post("/skies/board/references/2/frame", data=sent)
    assert reference_cover("board")[0] == 0.0


def test_a_photograph_comes_with_its_horizon_line(client: FlaskClient) -> None:
    """Sky over land: the line lies where they meet; without land at the lower edge; both say so."""
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:60], pixels[60:] = (90, 130, 200), (70, 66, 50)
    for number, (picture, line, said) in enumerate((
            (pixels, 60 / 90, "where land seems to begin"), (pixels[:50], 1.0, "No land")), 1):
        buffer = io.BytesIO()
        Image.fromarray(picture).save(buffer, "PNG")
        upload(client, "/skies/board/references", "meadow.png", buffer.getvalue())
        row = reference("board", number)
        assert row.horizon == pytest.approx(line, abs=0.01) and said in row.note


def test_framing_is_checked_and_kept(client: FlaskClient) -> None:
    upload(client, "/skies/board/references", "a.png", png())
    sent = {"token": token(client), "lens_mm": "35", "horizon": "0.8", "ratio": "0.7"}
    assert client.post("/skies/board/references/1/frame", data=sent).status_code == 302
    page = client.get("/skies/board/compare?first=present&second=reference-1")
    assert 'value="0.8"' in page.get_data(as_text=True)
    said = client.post("/skies/board/references/1/frame", data=sent | {"lens_mm": "4000"})
    assert said.status_code == 422 and "lens_mm" in said.get_data(as_text=True)


@pytest.mark.parametrize(("given", "part"), [
    ("0.5,0.6", "2 heights were given; give 64"), (",".join(["2"] * 64), "shares of the picture"),
    (",".join(["nan"] * 64), "shares of the picture"), ("high", "numbers with a comma"),
    (",".join(["0.5"] * 65), "65 heights")])
def test_a_skyline_is_checked(client: FlaskClient, given: str, part: str) -> None:
    upload(client, "/skies/board/references", "a.png", png())
    said = client.post("/skies/board/references/1/frame",
                       data={"token": token(client), "skyline": given})
    assert said.status_code == 422 and part in said.get_data(as_text=True)
    assert reference("board", 1).skyline == ""


def test_a_traced_skyline_is_kept_and_left_out(client: FlaskClient) -> None:
    """A white wall over the right half of a blue sky is cloud until it is traced, in the measures,
    the mask and the cover to reach; one at the foot of the picture is none."""
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:], pixels[30:, 80:] = (70, 120, 210), (200, 200, 200)
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG")
    upload(client, "/skies/board/references", "wall.png", buffer.getvalue())
    send = {"token": token(client), "horizon": "1"}
    client.post("/skies/board/references/1/frame", data=send)
    told = reference_cover("board")
    assert told is not None and told.oktas == pytest.approx(8.0 / 3.0, abs=0.1)
    trace = ",".join(["1"] * 32 + ["0.3"] * 32)
    client.post("/skies/board/references/1/frame", data=send | {"skyline": trace})
    told = reference_cover("board")
    assert told is not None and told.oktas == 0.0
    text = client.get("/skies/board/compare/measures?first=reference-1&second=").get_data(
        as_text=True)
    assert "0.0 oktas" in text and re.findall(r'data-measure="hidden">(\d+) %', text) == ["35"]
    masked = np.asarray(Image.open(io.BytesIO(client.get(
        "/skies/board/compare/picture.png?key=reference-1&mask=1").data)).convert("RGB"))
    assert (masked[40:80, 120] == 40).all(axis=1).any() and (masked[40:80, 40] == (
        70, 120, 210)).all()
    client.post("/skies/board/references/1/frame", data=send | {
        "skyline": ",".join(["1"] * 64)})
    assert reference("board", 1).skyline == ""


def test_a_tree_before_the_sky_is_left_out_and_shown(client: FlaskClient) -> None:
    """Compare counts no cloud in it, says how much was left out, and draws level lines over it."""
    pixels = np.zeros((180, 320, 3), dtype=np.uint8)
    pixels[:] = (70, 120, 210)
    leaves = np.random.default_rng(5).integers(40, 140, (120, 80))
    pixels[60:, 120:200] = np.stack([0.8 * leaves, leaves, 0.4 * leaves], axis=-1)
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG")
    upload(client, "/skies/board/references", "tree.png", buffer.getvalue())
    row = reference("board", 1)
    client.post("/skies/board/references/1/frame", data={
        "token": token(client), "lens_mm": row.lens_mm, "horizon": "1", "ratio": row.ratio})
    said = client.get("/skies/board/compare/measures?first=reference-1&second=")
    text = said.get_data(as_text=True)
    assert "0.0 oktas" in text
    left_out = re.findall(r'data-measure="hidden">(\d+) %', text)
    assert len(left_out) == 1 and 15 <= int(left_out[0]) <= 28
    shown = np.asarray(Image.open(io.BytesIO(client.get(
        "/skies/board/compare/picture.png?key=reference-1&mask=1").data)).convert("RGB"))
    scale = shown.shape[1] / 320
    column = shown[int(70 * scale):int(170 * scale), int(160 * scale)]
    lines = (column == (40, 40, 40)).all(axis=1)
    assert 0.3 < lines.mean() < 0.5
    assert not (shown[: int(40 * scale), : int(100 * scale)] == (40, 40, 40)).all(axis=2).any()


def test_measures_of_known_pictures() -> None:
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:] = (60, 110, 200)
    pixels[20:40] = (220, 222, 226)  # a band of cloud: 20 of 60 rows of sky
    pixels[60:] = (90, 80, 60)
    found = likeness_of(pixels, horizon=60 / 90)
    assert found.cover_oktas == pytest.approx(8 / 3, abs=0.01)
    assert found.zenith == "#3c6ec8" and found.contrast and found.contrast > 3.0
    assert sum(found.histogram) == pytest.approx(1.0)
    shown = mask_overlay(pixels, 60 / 90, 0.6)
    assert (shown[25] == (138, 47, 18)).all(axis=1).mean() == pytest.approx(1 / 3, abs=0.05)
    assert likeness_of(pixels, 60 / 90, ratio=1.2).cover_oktas == 0.0
    assert horizon_of(0.0, 0.8) == 0.5 and horizon_of(20.0, 0.8) > 0.9
