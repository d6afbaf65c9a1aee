"""Files read back by independent readers."""

from __future__ import annotations

import os
from pathlib import Path

import imageio.v3 as imageio
import numpy as np
import OpenEXR
import png
import pytest
import tifffile
from PIL import Image

from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.colour.spectrum import RGB_TO_XYZ
from dovrek.formats.bands import Band, Banded
from dovrek.formats.kinds.format import Developing
from dovrek.formats.pictures import FormatError, bits_for, write_bands, write_picture
from dovrek.formats.whole_file import whole_file

EV, KELVINS = 14.0, 5600.0


@pytest.fixture()
def light() -> np.ndarray:
    rng = np.random.default_rng(2)
    rgb = rng.uniform(0.0, 2.0, (30, 40, 3)) * white_luminance(EV)
    frame = np.zeros((30, 40, 5), dtype=np.float32)
    frame[..., :3] = rgb @ RGB_TO_XYZ.T
    frame[..., 3] = 1.0
    frame[20:, :, :4] = 0.0
    return frame


def exposed(light: np.ndarray) -> np.ndarray:
    from dovrek.core.colour.spectrum import XYZ_TO_RGB

    return light[..., :3].astype(float) @ XYZ_TO_RGB.T / white_luminance(EV)


@pytest.mark.parametrize("bits", [8, 16])
def test_png(tmp_path: Path, light: np.ndarray, bits: int) -> None:
    """Pillow (8 bit) and pypng's reader (16 bit) see exactly what the film made."""
    path = tmp_path / "a.png"
    write_picture(path, light, Developing(EV, KELVINS, bits=str(bits)))  # type: ignore[arg-type]
    wanted = develop(light, EV, KELVINS, bits=bits)
    if bits == 8:
        found = np.asarray(Image.open(path))
    else:
        width, height, rows, info = png.Reader(str(path)).read()
        assert info["bitdepth"] == 16
        found = np.vstack(list(rows)).reshape(height, width, 3)
    assert (found == wanted).all()


def test_png_with_transparent_ground(tmp_path: Path, light: np.ndarray) -> None:
    path = tmp_path / "a.png"
    write_picture(path, light, Developing(EV, KELVINS, bits="8", transparent=True))
    image = Image.open(path)
    assert image.mode == "RGBA"
    alpha = np.asarray(image)[..., 3]
    assert (alpha[:20] == 255).all() and (alpha[20:] == 0).all()


@pytest.mark.parametrize("bits", ["half", "float"])
def test_exr(tmp_path: Path, light: np.ndarray, bits: str) -> None:
    """OpenEXR reads the values back; whiteLuminance turns them into cd/m²."""
    path = tmp_path / "a.exr"
    write_picture(path, light, Developing(EV, KELVINS, bits=bits))  # type: ignore[arg-type]
    with OpenEXR.File(str(path)) as file:
        pixels = file.channels()["RGB"].pixels
        white = file.header()["whiteLuminance"]
    assert pixels.dtype == (np.float16 if bits == "half" else np.float32)
    assert white == pytest.approx(white_luminance(EV))
    assert pixels == pytest.approx(exposed(light), rel=1e-3 if bits == "half" else 1e-5, abs=1e-4)
    luminance = pixels.astype(float) @ [0.2126, 0.7152, 0.0722] * white
    assert luminance[:20] == pytest.approx(light[:20, :, 1], rel=3e-3)


def test_half_clamps_and_says_so(tmp_path: Path, light: np.ndarray) -> None:
    light[0, 0, :3] = 1e12
    path = tmp_path / "a.exr"
    notes = write_picture(path, light, Developing(EV, KELVINS, bits="half"))
    assert "65,504" in notes[0]
    with OpenEXR.File(str(path)) as file:
        assert np.isfinite(file.channels()["RGB"].pixels).all()


def test_absolute_scale(tmp_path: Path, light: np.ndarray) -> None:
    path = tmp_path / "a.exr"
    write_picture(path, light, Developing(EV, KELVINS, bits="float", scale="absolute"))
    with OpenEXR.File(str(path)) as file:
        assert file.header()["whiteLuminance"] == 1.0
        pixels = file.channels()["RGB"].pixels
    assert pixels @ [0.2126, 0.7152, 0.0722] == pytest.approx(light[..., 1], rel=2e-3, abs=0.1)


@pytest.mark.parametrize("extension", ["exr", "tif", "hdr"])
def test_ap1_files_hold_the_same_light(tmp_path: Path, light: np.ndarray, extension: str) -> None:
    """Against colour-science's own conversion, adapted by Bradford; the header says so."""
    import colour

    path = tmp_path / f"a.{extension}"
    write_picture(path, light, Developing(EV, KELVINS, bits="float", primaries="ap1"))
    wanted = colour.RGB_to_RGB(exposed(light), "sRGB", "ACEScg",
                               chromatic_adaptation_transform="Bradford")
    if extension == "exr":
        with OpenEXR.File(str(path)) as file:
            assert tuple(file.header()["chromaticities"])[:2] == pytest.approx((0.713, 0.293))
            found = file.channels()["RGB"].pixels
    elif extension == "tif":
        assert "AP1" in tifffile.TiffFile(path).pages[0].description  # type: ignore[union-attr]
        found = tifffile.imread(path)
    else:
        assert b"PRIMARIES=0.7130 0.2930" in path.read_bytes()
        return
    assert found == pytest.approx(wanted, rel=2e-3, abs=1e-3)


def test_tiff_float_and_16(tmp_path: Path, light: np.ndarray) -> None:
    write_picture(tmp_path / "a.tif", light, Developing(EV, KELVINS, bits="float"))
    assert tifffile.imread(tmp_path / "a.tif") == pytest.approx(exposed(light), rel=1e-5, abs=1e-5)
    write_picture(tmp_path / "b.tif", light, Developing(EV, KELVINS, bits="16"))
    assert (tifffile.imread(tmp_path / "b.tif") == develop(light, EV, KELVINS, bits=16)).all()


def test_jpeg(tmp_path: Path, light: np.ndarray) -> None:
    write_picture(tmp_path / "a.jpg", light, Developing(EV, KELVINS))
    assert imageio.imread(tmp_path / "a.jpg").shape == (30, 40, 3)


def test_radiance(tmp_path: Path, light: np.ndarray) -> None:
    """Read by hand after Ward 1991: mantissa and exponent, EXPOSURE 179/whiteLuminance."""
    path = tmp_path / "a.hdr"
    write_picture(path, light, Developing(EV, KELVINS))
    head, _, body = path.read_bytes().partition(b"\n\n")
    size, _, pixels = body.partition(b"\n")
    assert size == b"-Y 30 +X 40"
    rgbe = np.frombuffer(pixels, dtype=np.uint8).reshape(30, 40, 4).astype(float)
    found = (rgbe[..., :3] + 0.5) * np.exp2(rgbe[..., 3:] - 136)
    assert found[:20] == pytest.approx(np.maximum(exposed(light)[:20], 0), rel=0.1, abs=0.012)
    line = next(x for x in head.decode().splitlines() if x.startswith("EXPOSURE"))
    assert float(line[9:]) == pytest.approx(179 / white_luminance(EV), rel=1e-6)


@pytest.mark.parametrize(("name", "bits", "scale", "part"), [
    ("a.bmp", None, "exposed", ".png"), ("a.png", "half", "exposed", "8 or 16"),
    ("a.exr", "half", "absolute", "--bits float"),
])
def test_wishes_that_do_not_fit(name: str, bits: str | None, scale: str, part: str) -> None:
    with pytest.raises(FormatError, match=part):
        bits_for(Path(name), bits, scale)


def test_whole_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "a.txt"
    path.write_text("before")
    with pytest.raises(RuntimeError), whole_file(path) as part:
        part.write_text("half")
        raise RuntimeError
    assert path.read_text() == "before" and os.listdir(tmp_path) == ["a.txt"]


@pytest.mark.parametrize(("ending", "bits"), [
    (".png", "8"), (".png", "16"), (".jpg", "8"), (".tif", "8"), (".tif", "16"), (".tif", "float"),
    (".hdr", "float"), (".exr", "half"), (".exr", "float")])
def test_bands_write_what_a_whole_picture_does(tmp_path: Path, ending: str, bits: str) -> None:
    """A picture of several bands, cut unevenly, gives the very file that one band gives."""
    rng = np.random.default_rng(8)
    light = np.ones((301, 43, 5), dtype=np.float32)
    light[..., :3] = rng.uniform(10.0, 9000.0, (301, 43, 3))
    developing = Developing(EV, KELVINS, bits=bits)  # type: ignore[arg-type]

    def cut(*tops: int) -> Banded:
        ends = [*tops[1:], 301]
        return Banded(301, 43, lambda: iter([Band(light[a:b], a)
                                             for a, b in zip(tops, ends, strict=True)]))

    one, many = tmp_path / f"one{ending}", tmp_path / f"many{ending}"
    write_bands(one, cut(0), developing)
    write_bands(many, cut(0, 7, 128, 256, 300), developing)
    if ending == ".exr":
        with OpenEXR.File(str(one)) as a, OpenEXR.File(str(many)) as b:
            assert np.array_equal(a.channels()["RGB"].pixels, b.channels()["RGB"].pixels)
    elif ending == ".tif":
        assert np.array_equal(tifffile.imread(one), tifffile.imread(many))
        assert tifffile.imread(one).shape == (301, 43, 3)
    else:
        assert one.read_bytes() == many.read_bytes()
