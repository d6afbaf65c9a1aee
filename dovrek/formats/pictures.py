"""Pictures to files: PNG, JPEG, TIFF, Radiance HDR and OpenEXR.

Encoded files (PNG, JPEG, integer TIFF) are developed by the film to sRGB. Linear files hold
scene light with Rec. 709 primaries; `whiteLuminance` says how many cd/m² (1, 1, 1) is.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
import OpenEXR
import png
import tifffile
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import develop, white_luminance
from dovrek.core.colour.spectrum import XYZ_TO_RGB
from dovrek.core.transport.passes import Passes
from dovrek.core.transport.sample import ALPHA
from dovrek.formats.film_passes import pass_channels
from dovrek.formats.whole_file import whole_file

Bits = Literal["8", "16", "half", "float"]
Scale = Literal["exposed", "absolute"]
HALF_LARGEST = 65504.0
RADIANCE_LM_W = 179.0  # what readers of Radiance files take for white light

ALLOWED: dict[str, tuple[Bits, ...]] = {
    ".png": ("8", "16"),
    ".jpg": ("8",),
    ".jpeg": ("8",),
    ".tif": ("8", "16", "float"),
    ".tiff": ("8", "16", "float"),
    ".hdr": ("float",),
    ".exr": ("half", "float"),
}
TRANSPARENT = {".png", ".tif", ".tiff", ".exr"}


class FormatError(ValueError):
    """A file that cannot be written as asked; the text names the mend."""


@dataclass(frozen=True)
class Developing:
    """How light becomes a file."""

    ev: float
    kelvins: float
    contrast: float = 1.0
    saturation: float = 1.0
    bits: Bits | None = None
    scale: Scale = "exposed"
    transparent: bool = False


def bits_for(path: Path, bits: str | None, scale: str = "exposed") -> Bits:
    """The depth of a file by its extension. Raises FormatError naming the mend."""
    extension = path.suffix.lower()
    if extension not in ALLOWED:
        raise FormatError(f"output: '{path.name}' has no known picture format; "
                          f"end it in one of {', '.join(sorted(ALLOWED))}")
    allowed = ALLOWED[extension]
    chosen = bits or allowed[0]
    if chosen not in allowed:
        raise FormatError(f"bits: {chosen} does not go into {extension}; "
                          f"use {' or '.join(allowed)}")
    if scale == "absolute" and chosen != "float":
        raise FormatError("scale: absolute light needs --bits float; half files end at 65,504")
    return chosen


def linear_rgb(light: NDArray[np.float32], developing: Developing) -> tuple[
        NDArray[np.float32], float]:
    """Scene-linear Rec. 709 RGB and the luminance of (1, 1, 1) in cd/m²."""
    white = 1.0 if developing.scale == "absolute" else white_luminance(developing.ev)
    rgb = light[..., :3].astype(np.float64) @ XYZ_TO_RGB.T / white
    return rgb.astype(np.float32), white


def _developed(light: NDArray[np.float32], developing: Developing, bits: int) -> NDArray[Any]:
    colour = light
    if developing.transparent:  # files with integer alpha keep colour apart from it
        alpha = np.maximum(light[..., ALPHA : ALPHA + 1], 1e-4)
        colour = (light[..., :3] / alpha).astype(np.float32)
    picture = develop(colour, developing.ev, developing.kelvins, developing.contrast,
                      developing.saturation, bits)
    if not developing.transparent:
        return picture
    top = 2**bits - 1
    alpha = np.clip(light[..., ALPHA] * top + 0.5, 0, top).astype(picture.dtype)
    return np.concatenate([picture, alpha[..., None]], axis=2)


def write_picture(path: Path, light: NDArray[np.float32], developing: Developing,
                  passes: Passes | None = None, layer_ids: Sequence[str] = ()) -> list[str]:
    """Write (h, w, 5) light to a file; returns notes for the sidecar. Raises OSError.

    `passes`, with the ids of the layers they hold, go into OpenEXR files beside the beauty.
    """
    bits = bits_for(path, developing.bits, developing.scale)
    extension = path.suffix.lower()
    if developing.transparent and extension not in TRANSPARENT:
        raise FormatError(f"ground: {extension} holds no transparency; use .png, .tif or .exr")
    if passes is not None and extension != ".exr":
        raise FormatError(f"passes: {extension} holds no further channels; use .exr")
    notes: list[str] = []
    with whole_file(path) as part:
        if extension == ".png":
            _write_png(part, _developed(light, developing, int(bits)), int(bits))
        elif extension in (".jpg", ".jpeg"):
            Image.fromarray(_developed(light, developing, 8)).save(
                part, "JPEG", quality=95, subsampling=0)
        elif extension in (".tif", ".tiff"):
            _write_tiff(part, light, developing, bits)
        elif extension == ".hdr":
            _write_hdr(part, light, developing)
        else:
            notes = _write_exr(part, light, developing, bits, passes, list(layer_ids))
    return notes


def _write_png(path: Path, picture: NDArray[Any], bits: int) -> None:
    height, width, planes = picture.shape
    writer = png.Writer(width, height, greyscale=False, alpha=planes == 4, bitdepth=bits,
                        compression=6)
    rows = picture.astype(">u2" if bits == 16 else np.uint8).reshape(height, width * planes)
    with path.open("wb") as file:
        writer.write_packed(file, (row.tobytes() for row in rows))


def _write_tiff(path: Path, light: NDArray[np.float32], developing: Developing,
                bits: Bits) -> None:
    if bits == "float":
        rgb, white = linear_rgb(light, developing)
        if developing.transparent:
            rgb = np.concatenate([rgb, light[..., ALPHA : ALPHA + 1]], axis=2)
        note = f"linear Rec. 709; (1,1,1) is {white:.6g} cd/m2"
        extra = ["assocalpha"] if developing.transparent else None
        tifffile.imwrite(path, rgb, photometric="rgb", description=note, extrasamples=extra)
        return
    extra = ["unassalpha"] if developing.transparent else None
    tifffile.imwrite(path, _developed(light, developing, int(bits)), photometric="rgb",
                     compression="zlib", extrasamples=extra)


def _write_hdr(path: Path, light: NDArray[np.float32], developing: Developing) -> None:
    """Radiance RGBE, flat scanlines. Source: Ward 1991, real pixels."""
    rgb, white = linear_rgb(light, developing)
    rgb = np.maximum(rgb, 0.0)
    largest = rgb.max(axis=2)
    mantissa, exponent = np.frexp(largest)
    scale = np.where(largest > 1e-32, mantissa * 256.0 / np.maximum(largest, 1e-32), 0.0)
    out = np.zeros((*rgb.shape[:2], 4), dtype=np.uint8)
    out[..., :3] = np.clip(rgb * scale[..., None], 0, 255).astype(np.uint8)
    out[..., 3] = np.where(largest > 1e-32, np.clip(exponent + 128, 0, 255), 0).astype(np.uint8)
    height, width = rgb.shape[:2]
    head = (f"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\nEXPOSURE={RADIANCE_LM_W / white:.8g}\n"
            "PRIMARIES=0.640 0.330 0.300 0.600 0.150 0.060 0.3127 0.3290\n\n"
            f"-Y {height} +X {width}\n")
    path.write_bytes(head.encode() + out.tobytes())


def _write_exr(path: Path, light: NDArray[np.float32], developing: Developing, bits: Bits,
               passes: Passes | None, layer_ids: list[str]) -> list[str]:
    rgb, white = linear_rgb(light, developing)
    notes = []
    if developing.transparent:
        rgb = np.concatenate([rgb, light[..., ALPHA : ALPHA + 1]], axis=2)
    if bits == "half":
        clamped = int(np.count_nonzero(np.abs(rgb) > HALF_LARGEST))
        if clamped:
            notes.append(f"{clamped} values above 65,504 were clamped (the sun's disc exceeds "
                         "half floats); its true illuminance stands in this file")
        rgb = np.clip(rgb, -HALF_LARGEST, HALF_LARGEST).astype(np.float16)
    header = {
        "compression": OpenEXR.ZIP_COMPRESSION,
        "type": OpenEXR.scanlineimage,
        "whiteLuminance": float(white),
        "chromaticities": (0.640, 0.330, 0.300, 0.600, 0.150, 0.060, 0.3127, 0.3290),
    }
    channels = {"RGBA" if rgb.shape[2] == 4 else "RGB": np.ascontiguousarray(rgb)}
    if passes is not None:
        for name, values in pass_channels(passes, layer_ids, white).items():
            if bits == "half" and name != "depth.Z":  # kilometres exceed a half
                values = np.clip(values, -HALF_LARGEST, HALF_LARGEST).astype(np.float16)
            channels[name] = values
    with OpenEXR.File(header, channels) as file:
        file.write(str(path))
    return notes


def mean_luminance(light: NDArray[np.float32]) -> float:
    """Mean luminance of a frame, cd/m²."""
    return float(light[..., 1].mean(dtype=np.float64))

