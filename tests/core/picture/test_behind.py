"""A picture behind a sky: where no cloud is it comes out as it was; clouds with alpha over it are
the whole; what is all around lies where its directions are."""

from __future__ import annotations

import io
import math
from pathlib import Path
from typing import Any

import numpy as np
import OpenEXR
import pytest
from PIL import Image

from dovrek.core.colour.backdrop import Backdrop, light_of
from dovrek.core.colour.film import balance_matrix, decode_srgb, develop, undeveloped
from dovrek.core.geometry.lens import direction_at
from dovrek.core.picture.behind import backdrop_of
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import ALPHA
from dovrek.formats.behind import PhotographError, behind_of
from dovrek.sky.advisories import advisories
from dovrek.sky.behind import Behind
from dovrek.sky.changes import with_values
from dovrek.sky.document import Sky
from tests.conftest import free_sun, sky_of

W, H = 320, 180


def photograph(wide: int = W, high: int = H) -> np.ndarray:
    """Codes that a photograph may have: a blue gradient, white, black, a red thing."""
    rows, columns = np.mgrid[0:high, 0:wide] / (high - 1.0)
    made = np.stack([60 + 120 * rows, 110 + 100 * rows, 200 + 30 * rows], axis=2)
    made[: high // 6, : wide // 4] = 255
    made[-high // 6 :, : wide // 4] = 0
    made[high // 2 : high // 2 + 20, wide // 2 : wide // 2 + 30] = (200, 40, 30)
    return np.clip(made, 0, 255).astype(np.uint8)


def png(pixels: np.ndarray) -> bytes:
    file = io.BytesIO()
    Image.fromarray(pixels).save(file, "PNG")
    return file.getvalue()


def over(data: bytes, cover: float = 0.0, around: bool | None = None, **film: Any) -> Sky:
    taken = behind_of(data, around)
    return free_sun(40, film=film, behind={
        "asset": taken.asset, "kind": "dome" if taken.around else "photograph"},
        layers=[{"id": "a", "genus": "cumulus", "cover_oktas": cover}])


@pytest.mark.parametrize("film", [{}, {"contrast": 1.3, "saturation": 0.6}, {
    "exposure_ev": 12.0, "white_balance_k": 4000.0}])
def test_the_film_is_undone(film: dict[str, Any]) -> None:
    codes = photograph().astype(np.float32) / 255.0
    values = (film.get("exposure_ev", 14.0), film.get("white_balance_k", 5600.0),
              film.get("contrast", 1.0), film.get("saturation", 1.0))
    again = np.asarray(develop(undeveloped(codes, *values), *values), dtype=float)
    assert np.abs(again - 255.0 * codes).max() <= 1.5  # the dither's own code, and rounding


@pytest.mark.parametrize("film", [{}, {"exposure_ev": 13.0, "contrast": 1.2}])
def test_behind_no_cloud_is_the_photograph(studio: Studio, film: dict[str, Any]) -> None:
    """Within one code of what is kept, whatever the film."""
    sky = over(png(photograph()), **film)
    kept = backdrop_of(sky)
    assert kept is not None and kept.pixels.shape == (H, W, 3)
    found = studio.render(sky, Wish(W, H, "draft"))
    shown = np.asarray(develop(found.light, *found.metered), dtype=int)
    assert np.abs(shown - kept.pixels.astype(int)).max() <= 1
    assert (found.light[..., ALPHA] == 1.0).all()


def test_clouds_with_alpha_over_the_photograph_are_the_whole(studio: Studio) -> None:
    """In linear light: to rounding; and they cover some of it and not all."""
    sky = over(png(photograph()), cover=3.0)
    whole = studio.render(sky, Wish(W, H, "draft"))
    clouds = studio.render(sky, Wish(W, H, "draft", sky=False))
    bare = studio.render(with_values(sky, {"layers[a].cover_oktas": 0.0}), Wish(W, H, "draft"))
    alpha = clouds.light[..., ALPHA : ALPHA + 1]
    assert 0.05 < alpha.mean() < 0.95 and (alpha < 0.01).any() and (alpha > 0.9).any()
    kept = backdrop_of(sky)
    assert kept is not None
    under = undeveloped(kept.pixels.astype(np.float32) / 255.0, *whole.metered[:5])
    made = clouds.light[..., :3] + (1.0 - alpha) * under
    shown, wanted = (np.asarray(develop(x, *whole.metered), dtype=int)
                     for x in (made, whole.light))
    assert np.abs(shown - wanted).max() <= 2
    assert bare.light.shape == whole.light.shape


def dome(lit: tuple[int, int]) -> np.ndarray:
    """Linear light all around, one small sun at a row and column."""
    made = np.full((128, 256, 3), 0.3, np.float32)
    made[:64] = (0.2, 0.35, 0.8)
    made[lit[0] - 1 : lit[0] + 2, lit[1] - 1 : lit[1] + 2] = 900.0
    return made


def exr(values: np.ndarray, folder: Path) -> bytes:
    path = folder / "a.exr"
    with OpenEXR.File({}, {"RGB": values}) as out:
        out.write(str(path))
    return path.read_bytes()


def test_the_sun_of_what_is_all_around_is_found_and_lies_there(studio: Studio, tmp_path: Path
                                                               ) -> None:
    taken = behind_of(exr(dome((32, 192)), tmp_path))
    assert taken.around and taken.brightest == pytest.approx((44.3, 90.7), abs=0.8)
    sky = over(exr(dome((32, 192)), tmp_path), exposure_ev=14.0)
    sky = with_values(sky, {"camera.heading_deg": 90.0, "camera.pitch_deg": 44.0})
    found = studio.render(sky, Wish(W, H, "draft"))
    row, column = np.unravel_index(int(np.argmax(found.light[..., 1])), (H, W))
    ray = direction_at(Wish(W, H).lens(sky), (column + 0.5) / W, (row + 0.5) / H)
    assert math.degrees(math.asin(ray[2])) == pytest.approx(44.6, abs=2.0)
    assert math.degrees(math.atan2(ray[0], ray[1])) == pytest.approx(90.7, abs=2.0)
    turned = with_values(sky, {"behind.turn_deg": 60.0, "camera.heading_deg": 150.0})
    again = studio.render(turned, Wish(W, H, "draft"))
    assert np.allclose(found.light[..., 1], again.light[..., 1], rtol=0.05, atol=50.0)


def test_a_photograph_of_another_lens_lies_within_its_frame(studio: Studio) -> None:
    """Half the camera's focal length shows the middle half of it."""
    sky = with_values(over(png(photograph())), {"behind.lens_mm": 14.0})
    found = studio.render(sky, Wish(W, H, "draft"))
    shown = np.asarray(develop(found.light, *found.metered), dtype=int)
    kept = backdrop_of(sky)
    assert kept is not None
    middle = kept.pixels[H // 4 : -H // 4, W // 4 : -W // 4].astype(int)
    assert np.abs(shown[1::2, 1::2] - middle).mean() < 3.0


def test_a_photograph_is_seen_through_the_lens_alone(studio: Studio) -> None:
    sky, bare = over(png(photograph())), free_sun(40)
    one, other = (studio.render(s, Wish(128, 64, "draft", "dome")) for s in (sky, bare))
    assert np.allclose(one.light[..., :3], other.light[..., :3], rtol=1e-4)


def test_what_is_no_picture_behind_is_told() -> None:
    with pytest.raises(PhotographError, match="empty"):
        behind_of(b"")
    with pytest.raises(PhotographError, match="cannot be read"):
        behind_of(b"nothing")
    with pytest.raises(PhotographError, match="twice as wide"):
        behind_of(png(photograph()), around=True)
    burnt = photograph(400, 200)
    assert any("burnt" in note for note in behind_of(png(burnt)).notes)
    codes = {a.code for a in advisories(sky_of(behind={"asset": "sky.jpg"}), 40.0)}
    assert "picture missing" in codes


def test_a_picture_all_around_lights_the_clouds(studio: Studio) -> None:
    """The sky's light has its upper half's colour, as the film shows it, and our own luminance; the
    ground's is to it as in the picture. Its sun is left out, and a photograph lights nothing."""
    made = np.full((64, 128, 3), (230, 150, 90), np.uint8)
    made[32:] = (40, 90, 30)
    made[10:12, 20:22] = 255
    linear = np.array([decode_srgb(v / 255.0) for v in range(256)])
    found = [studio.prepare(sky, Wish(16, 9, "draft"), Cancel())
             for sky in (over(png(made), 3.0, True).model_copy(update={"behind": Behind()}),
                         over(png(made), 3.0, True), over(png(made), 3.0, False))]
    plain, lit, photo = (prepared.scene.ambient for prepared, _ in found)
    film = np.linalg.inv(balance_matrix(found[1][1].kelvins))
    up, down = (film @ linear[np.array(c)] for c in ((230, 150, 90), (40, 90, 30)))
    assert lit[0, 0, 1] == pytest.approx(plain[0, 0, 1], rel=0.02)
    assert lit[0, 0] / lit[0, 0, 1] == pytest.approx(up / up[1], rel=0.04)
    assert lit[0, 1] / lit[0, 0, 1] == pytest.approx(down / up[1], rel=0.04)
    assert np.array_equal(photo, plain)


def test_light_of_a_linear_picture_leaves_its_sun_out() -> None:
    pixels = np.ones((32, 64, 3), np.float32)
    pixels[16:] *= 0.25
    with_sun = pixels.copy()
    with_sun[6, 9] = 1e5
    even, sunny = (light_of(Backdrop(p)) for p in (pixels, with_sun))
    assert even.above[1] == pytest.approx(1.0) and even.below[1] == pytest.approx(0.25, rel=1e-3)
    assert sunny.below[1] == pytest.approx(0.25, rel=0.05)
