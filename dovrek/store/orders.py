"""What an order of a print says: every field declared once; form, check and page come from it."""

from __future__ import annotations

import json
import math
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields, replace
from typing import Any

BACKPLATE, DOME, FILM, FRAMES, VOLUME = "backplate", "dome", "film", "frames", "volume"
KINDS = {
    BACKPLATE: "backplate: the picture", DOME: "dome: the whole sky with its lights",
    FILM: "film: the clip", FRAMES: "frames: the clip as numbered pictures",
    VOLUME: "volume: layers as density",
}
PICTURES = (BACKPLATE, DOME, FILM, FRAMES)
SIDE_LIMIT, FILM_LIMIT = 16384, 3840
PIXELS_MOST = SIDE_LIMIT * SIDE_LIMIT // 2
PASS_PIXELS_MOST = 4096 * 4096  # with passes, which take some forty numbers a pixel in a file
USUAL_WIDTH = {BACKPLATE: 1920, DOME: 4096, FILM: 1280, FRAMES: 1920}
VOXELS_MOST = 4_000_000_000
FACES_SHARE = 4  # a dome's width over that of a cube's face


class OrderError(ValueError):
    """An order that cannot be taken; the text names field, value and mend."""


@dataclass(frozen=True)
class Asked:
    """What one field of an order may be, and of what kinds of print it is asked."""

    label: str
    kinds: tuple[str, ...]
    unit: str = ""
    low: float = 0.0
    high: float = 0.0
    step: float = 1.0
    words: Mapping[str, str] | None = None  # choices and how they are shown
    help: str = ""
    needs: str = ""  # what a file must hold for it: passes, transparency, linear
    why: str = ""  # said when it does not


def asked(default: Any, label: str, kinds: tuple[str, ...], **more: Any) -> Any:
    return field(default=default, metadata={"asked": Asked(label, kinds, **more)})


QUALITIES = {"draft": "draft", "proof": "proof", "final": "final"}


@dataclass(frozen=True)
class Order:
    """What is to be printed."""

    width: int = asked(1920, "Width", PICTURES, unit="px", low=16, high=SIDE_LIMIT)
    height: int = asked(1080, "Height", (BACKPLATE, FILM, FRAMES), unit="px", low=16,
                        high=SIDE_LIMIT,
                        help="Width and height set the shape; the lens keeps its width of view.")
    quality: str = asked("final", "Quality", PICTURES, words=QUALITIES)
    format: str = asked("png-8", "File", (BACKPLATE, FRAMES), words={})
    ground: str = asked("on", "Ground", (BACKPLATE, FRAMES),
                        words={"on": "shown", "no-land": "land transparent", "off": "transparent",
                               "clouds": "clouds alone"},
                        needs="transparency",
                        why="This file holds no transparency.")
    passes: str = asked("none", "Passes", (BACKPLATE,), words={
        "none": "none", "all": "in the same file", "files": "a file each"},
        help="Clouds, sky, ground, air, depth, sunlight and mattes of the layers.",
        needs="passes", why="Only OpenEXR holds passes.")
    kind: str = asked(BACKPLATE, "Kind", tuple(KINDS), words=KINDS)
    sun: str = asked("apart", "Sun", (DOME,), words={
        "apart": "a light of its own beside the dome", "in": "in the dome"},
        help="Half as high as wide. OpenEXR, USD lights and camera, sidecar, proof of lighting.")
    centre: float = asked(0.0, "Bearing in the middle", (DOME,), unit="°", high=360.0, step=0.0)
    primaries: str = asked("rec709", "Primaries", (BACKPLATE, FRAMES, DOME), words={
        "rec709": "Rec. 709", "ap1": "AP1"}, needs="linear", why="This file is developed: sRGB.")
    faces: str = asked("none", "Cube faces", (DOME,), words={
        "none": "none", "six": "six, a quarter of the width each"})
    layer: str = asked("", "Layer", (VOLUME,), words={})
    voxel_m: float = asked(20.0, "Voxel", (VOLUME,), unit="m", low=1.0, high=2000.0, step=0.0)
    extent_m: float = asked(20_000.0, "Extent", (VOLUME,), unit="m", low=100.0, high=200_000.0,
                            step=0.0, help="A square about the camera's foot. OpenVDB, density in "
                                           "1/m, z up; a grid for each layer.")
    rain: str = asked("no", "Rain", (VOLUME,), words={"no": "left out", "yes": "with it"})
    span: str = asked("still", "Time", (VOLUME,), words={
        "still": "as it stands", "clip": "along the clip, a file a frame"})

    @property
    def is_clip(self) -> bool:
        return self.kind in (FILM, FRAMES)

    @property
    def is_volumes(self) -> bool:
        """Whether it is a sequence of volumes."""
        return self.kind == VOLUME and self.span == "clip"


NEEDS = ("passes", "transparency", "linear")  # what `formats` tells of each file, in this order
ASKED: dict[str, Asked] = {f.name: f.metadata["asked"] for f in fields(Order)}


def order_from(form: Mapping[str, Any], formats: Mapping[str, tuple[bool, bool, bool]],
               layers: tuple[str, ...] = ()) -> Order:
    """An order from a form. `formats` are those on offer, and whether each holds passes,
    transparency and linear light; `layers` the ids that a volume may be of. Raises OrderError."""
    kind = _word("kind", form.get("kind", BACKPLATE), tuple(KINDS))
    known = {"format": tuple(formats), "layer": ("", *layers)}
    values: dict[str, Any] = {"kind": kind}
    for part in fields(Order):
        what = ASKED[part.name]
        if kind not in what.kinds or part.name == "kind":
            continue
        default = part.default
        given = str(form.get(part.name, default)).strip()
        if what.words is not None:
            values[part.name] = _word(part.name, given, known.get(part.name, tuple(what.words)))
        elif isinstance(default, int):
            values[part.name] = _whole(part.name, form.get(part.name, ""), what,
                                       FILM_LIMIT if kind == FILM else what.high)
        else:
            values[part.name] = _amount(part.name, given, what)
    return _agreed(Order(**values), formats)


def _agreed(order: Order, formats: Mapping[str, tuple[bool, bool, bool]]) -> Order:
    """The order, once its fields go together. Raises OrderError."""
    if order.kind == DOME:
        if order.width % 2:
            raise OrderError(f"width: {order.width} is odd; a dome is twice as wide as high, give "
                             "an even number")
        return replace(order, height=order.width // 2, centre=order.centre % 360.0,
                       format="exr-float" if order.sun == "in" else "exr-half")
    if order.kind == VOLUME:
        return replace(order, width=0, height=0, format="vdb")
    if order.width * order.height > PIXELS_MOST:
        raise OrderError(f"width, height: {order.width} × {order.height} are more than "
                         f"{PIXELS_MOST:,} pixels; give smaller ones")
    if order.kind == FILM:
        if order.width % 2 or order.height % 2:
            raise OrderError(f"width, height: {order.width} × {order.height} is refused; a film "
                             "needs even numbers of pixels")
        return replace(order, format="webm")
    passes, transparent, linear = formats[order.format]
    if order.passes != "none" and not passes:
        raise OrderError("passes: only OpenEXR holds them; choose an OpenEXR file, or no passes")
    if order.passes != "none" and order.width * order.height > PASS_PIXELS_MOST:
        raise OrderError(f"passes: they fit to {PASS_PIXELS_MOST:,} pixels; give smaller sizes, or "
                         "no passes")
    if order.ground != "on" and not transparent:
        raise OrderError("ground: this file holds no transparency; choose another file, or a shown "
                         "ground")
    if order.primaries != "rec709" and not linear:
        raise OrderError("primaries: this file holds developed codes, which are sRGB; choose a "
                         "linear file, or Rec. 709")
    return order


def _whole(name: str, given: Any, what: Asked, high: float) -> int:
    text = str(given).strip()
    if not (text.isascii() and text.isdecimal() and len(text) < 7) or not (
            what.low <= int(text) <= high):
        raise OrderError(f"{name}: '{text[:20]}' is not a size; give a whole number from "
                         f"{what.low:.0f} to {high:.0f} {what.unit}")
    return int(text)


def _amount(name: str, text: str, what: Asked) -> float:
    try:
        value = float(text)
    except ValueError:
        value = math.nan
    if not what.low <= value <= what.high:
        wanted = "bearing" if what.unit == "°" else "length"
        raise OrderError(f"{name}: '{text[:20]}' is no {wanted}; give {what.low:g} to "
                         f"{what.high:g} {what.unit}")
    return value


def _word(name: str, given: Any, known: tuple[str, ...]) -> str:
    text = str(given)
    if text not in known:
        raise OrderError(f"{name}: '{text[:20]}' is not known; use one of "
                         f"{', '.join(k or 'all' for k in known)}")
    return text


def refuse_voxels(order: Order, largest: int) -> None:
    """Refuse a volume whose largest grid has too many voxels. Raises OrderError."""
    if largest > VOXELS_MOST:
        fits = math.ceil(order.voxel_m * (largest / VOXELS_MOST) ** (1 / 3))
        raise OrderError(f"voxel_m: {largest:,} voxels are more than {VOXELS_MOST:,}; give {fits} "
                         "m or a smaller extent")


def order_text(order: Order) -> str:
    """An order as it is kept."""
    return json.dumps(asdict(order))


def order_of_text(text: str) -> Order:
    """An order that was kept, of this release or an older one. Raises OrderError."""
    try:
        order = Order(**json.loads(text))
    except (ValueError, TypeError):
        raise OrderError("order: it cannot be read; remove this print and order it anew") from None
    if not isinstance(order.width, int) or not isinstance(order.height, int):
        raise OrderError("order: its size cannot be read; remove this print and order it anew")
    if order.kind not in KINDS:
        raise OrderError(f"order: prints of the kind '{order.kind}' are not known here; remove it")
    return order
