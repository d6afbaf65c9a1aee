"""The viewer of prints: how a file is seen, and the picture of that."""

from __future__ import annotations

import io
import math
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import av
import numpy as np
import tifffile
from PIL import Image

from dovrek.core.colour.curve import PLAIN, Curve
from dovrek.core.colour.film import develop
from dovrek.formats.preview import (
    SEEN,
    is_linear,
    linear_of,
    looked_around,
    part_of,
    reduced,
)

WINDOW = (1200, 720)  # pixels of a print that are sent at once
SMALL = 240
STOPS_MOST = 8.0
ZOOMS = {"fit": 0, "100 %": 1, "200 %": 2, "400 %": 4, "800 %": 8}
LENSES = (10.0, 200.0)
FILMS = (".webm",)
SIGHTS = {"zooms": ZOOMS, "stops": STOPS_MOST, "window": WINDOW, "lenses": LENSES}


class Unseen(LookupError):
    """A file that cannot be shown; the text says why."""


@dataclass(frozen=True)
class Sight:
    """How a print is looked at."""

    width: int = WINDOW[0]
    zoom: int = 0  # screen pixels a pixel; 0: the whole
    x: float = 0.5  # of the middle of what is seen, shares of width and height
    y: float = 0.5
    stops: float = 0.0  # brighter than it was exposed
    part: str = ""  # a pass
    around: bool = False  # a dome through a lens
    heading: float = 0.0
    pitch: float = 10.0
    lens: float = 28.0


def sight_of(said: Mapping[str, str]) -> Sight:
    """A sight from an address; what is out of range is brought into it."""
    def number(name: str, usual: float, low: float, high: float) -> float:
        try:
            value = float(said.get(name, usual))
        except ValueError:
            value = usual
        return min(max(value, low), high) if math.isfinite(value) else usual

    zoom = int(number("zoom", 0, 0, 8))
    width = SMALL if said.get("small") == "1" else WINDOW[0]
    return Sight(width, zoom if zoom in ZOOMS.values() else 0, number("x", 0.5, 0, 1),
                 number("y", 0.5, 0, 1), number("stops", 0, -STOPS_MOST, STOPS_MOST),
                 str(said.get("part", ""))[:80], said.get("around") == "1",
                 number("heading", 0, -720, 720), number("pitch", 10, -90, 90),
                 number("lens", 28, *LENSES))


def shows(name: str) -> bool:
    """Whether the viewer can show a file of a name."""
    return Path(name).suffix.lower() in SEEN


def seen(path: Path, facts: dict[str, Any], sight: Sight) -> bytes:
    """PNG of a file of a print as it is looked at; `facts` are its sidecar's. Raises Unseen."""
    if path.suffix in FILMS:
        image = _first_frame(path)
    elif path.suffix == ".vdb":
        image = Image.open(path.with_name(f"{path.stem}-plan.png"))
    elif not shows(path.name):
        raise Unseen(f"{path.name} holds no picture.")
    elif sight.part:
        try:
            image = Image.fromarray(_window(part_of(path, sight.part), sight).astype(np.uint8))
        except LookupError as error:
            raise Unseen(f"{error}.") from None
    elif is_linear(path):
        image = _developed(path, facts, sight)
    else:
        image = _opened(path, sight)
    image.thumbnail((sight.width, sight.width))
    buffer = io.BytesIO()
    image.save(buffer, "PNG", compress_level=3)
    return buffer.getvalue()


def _developed(path: Path, facts: dict[str, Any], sight: Sight) -> Image.Image:
    """Scene light by the film of its sidecar."""
    exposure = facts.get("exposure")
    if not isinstance(exposure, dict):
        raise Unseen("The sidecar of this print is gone or torn; the file itself can be fetched.")
    try:
        pixels, to_xyz = linear_of(path, facts)
    except (OSError, ValueError, LookupError) as error:
        raise Unseen(f"{path.name} cannot be read: {error}.") from None
    if sight.around:
        centre = float(facts.get("picture", {}).get("centre_azimuth_deg", 0.0))
        shown: Any = looked_around(pixels, sight.heading, sight.pitch, sight.lens,
                                   (960, 540), centre)
    else:
        shown = _window(pixels, sight)
    xyz = (shown[..., :3].astype(np.float64) @ to_xyz.T).astype(np.float32)
    return Image.fromarray(np.asarray(develop(
        xyz, exposure["ev"] - sight.stops, exposure["white_balance_k"], exposure["contrast"],
        exposure.get("saturation", 1.0), Curve(**exposure.get("curve", PLAIN._asdict()))),
        dtype=np.uint8))


def _opened(path: Path, sight: Sight) -> Image.Image:
    """Developed codes as they are; of 16 bits the upper 8."""
    if path.suffix in (".tif", ".tiff"):
        codes = np.asarray(tifffile.imread(path))
        codes = (codes >> 8).astype(np.uint8) if codes.dtype == np.uint16 else codes
        image = Image.fromarray(codes)
    else:
        image = Image.open(path)
        if image.mode not in ("RGB", "RGBA"):
            image = image.convert("RGB")
    if not sight.zoom:
        return image
    return Image.fromarray(_window(np.asarray(image), sight))


def _window(pixels: Any, sight: Sight) -> Any:
    """The pixels that are seen: the whole in means of squares, or a part of it one by one."""
    if not sight.zoom:
        found = reduced(pixels, sight.width)
        return found.astype(pixels.dtype) if pixels.dtype == np.uint8 else found
    height, width = pixels.shape[:2]
    across, down = (min(-(-side // sight.zoom), whole) for side, whole in zip(
        WINDOW, (width, height), strict=True))
    left = min(max(int(sight.x * width - across / 2), 0), width - across)
    top = min(max(int(sight.y * height - down / 2), 0), height - down)
    return pixels[top : top + down, left : left + across]


def _first_frame(path: Path) -> Image.Image:
    with av.open(str(path)) as file:
        for frame in file.decode(video=0):
            return Image.fromarray(frame.to_ndarray(format="rgb24"))
    raise Unseen(f"{path.name} has no frame.")
