"""Films: WebM with VP9, 4:2:0, marked as BT.709, at constant quality."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import Any

import av
import numpy as np
from av.video.reformatter import ColorPrimaries, ColorRange, Colorspace, ColorTrc
from numpy.typing import NDArray

from dovrek.formats.whole_file import whole_file

QUALITY = 18  # of libvpx' constant quality: 0 lossless … 63
OPTIONS = {"crf": str(QUALITY), "b": "0", "deadline": "good", "cpu-used": "4", "row-mt": "1"}


def write_film(path: Path, frames: Iterable[NDArray[np.uint8]], size: tuple[int, int],
               fps: float) -> int:
    """Write (h, w, 3) sRGB frames as a film; how many there were. Raises OSError with nothing left
    behind."""
    count = 0
    with whole_file(path) as part, av.open(str(part), "w", format="webm") as out:
        rate = Fraction(fps).limit_denominator(1001)
        stream: Any = out.add_stream("libvpx-vp9", rate=rate, options=OPTIONS)
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        context = stream.codec_context
        # ITU-R BT.709 primaries and matrix; codes are sRGB's (IEC 61966-2-1), of video range.
        context.color_range = ColorRange.MPEG
        context.colorspace, context.color_primaries = Colorspace.ITU709, ColorPrimaries.BT709
        context.color_trc = ColorTrc.IEC61966_2_1
        for pixels in frames:
            shown = av.VideoFrame.from_ndarray(np.ascontiguousarray(pixels), format="rgb24")
            shown = shown.reformat(format="yuv420p", dst_colorspace=Colorspace.ITU709,
                                   src_color_range=ColorRange.JPEG, dst_color_range=ColorRange.MPEG)
            shown.pts, shown.time_base = count, 1 / rate
            for packet in stream.encode(shown):
                out.mux(packet)
            count += 1
        for packet in stream.encode():
            out.mux(packet)
    return count
