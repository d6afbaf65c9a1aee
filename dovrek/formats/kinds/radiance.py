"""Radiance HDR: linear light with a shared exponent."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dovrek.core.colour.primaries import PRIMARIES
from dovrek.formats.kinds.format import Contents, Format, linear_rgb, white_of

RADIANCE_LM_W = 179.0  # what readers of Radiance files take for white light


def write(path: Path, contents: Contents) -> list[str]:
    """RGBE, flat scanlines. Source: Ward 1991, real pixels."""
    picture, white = contents.picture, white_of(contents.developing)
    chromaticities = PRIMARIES[contents.developing.primaries].chromaticities
    primaries = " ".join(f"{c:.4f}" for c in chromaticities)
    head = (f"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\nEXPOSURE={RADIANCE_LM_W / white:.8g}\n"
            f"PRIMARIES={primaries}\n\n"
            f"-Y {picture.height} +X {picture.width}\n")
    with path.open("wb") as file:
        file.write(head.encode())
        for band in picture.bands():
            rgb, _ = linear_rgb(band.light, contents.developing)
            file.write(shared_exponents(np.maximum(rgb, 0.0)).tobytes())
    return []


def shared_exponents(rgb: NDArray[np.float32]) -> NDArray[np.uint8]:
    """(h, w, 4) bytes: three mantissas and the exponent of the largest."""
    largest = rgb.max(axis=2)
    mantissa, exponent = np.frexp(largest)
    scale = np.where(largest > 1e-32, mantissa * 256.0 / np.maximum(largest, 1e-32), 0.0)
    out = np.zeros((*rgb.shape[:2], 4), dtype=np.uint8)
    out[..., :3] = np.clip(rgb * scale[..., None], 0, 255).astype(np.uint8)
    out[..., 3] = np.where(largest > 1e-32, np.clip(exponent + 128, 0, 255), 0).astype(np.uint8)
    return out


FORMAT = Format("hdr", "Radiance HDR", (".hdr",), ("float",), ("float",), write)
