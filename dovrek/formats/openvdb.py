"""OpenVDB: fog volumes of floats in trees of 8³ leaves.

The layout is that of file version 224 as the format's own library writes it (OpenVDB 10, Museth
2013, VDB: high-resolution sparse volumes with dynamic topology); its reader is the test. A known
Python writer keeps no metadata, so that nothing says what its numbers are.
"""

from __future__ import annotations

import struct
import uuid
from collections.abc import Sequence
from pathlib import Path
from typing import BinaryIO, NamedTuple

import numpy as np
from numpy.typing import NDArray

from dovrek import __version__
from dovrek.formats.whole_file import whole_file

MAGIC, FILE_VERSION, LIBRARY = 0x56444220, 224, (10, 0)
TREE = "Tree_float_5_4_3"
LEAF, LOWER, UPPER = 8, 128, 4096  # voxels a side of a leaf, and of what nodes above it span
ACTIVE_MASK = 2  # compression: of every node only the active values
NO_OTHERS = b"\x00"  # all values that are not active are the background


class Volume(NamedTuple):
    """One grid: its name, cubes' size and low corner in metres, and its blocks.

    `places` (N, 3) are multiples of 8 voxels from the corner; `values` (N, 512) 1/m, z fastest.
    """

    name: str
    voxel_m: float
    corner: tuple[float, float, float]
    places: NDArray[np.int32]
    values: NDArray[np.float32]
    said: dict[str, str]  # further words in the grid's header


def grid_name(layer: str) -> str:
    """A layer's id as part of a grid's name, in letters that programs take."""
    return layer.replace("~", "_")


def write_volumes(path: Path, volumes: Sequence[Volume], said: dict[str, str]) -> None:
    """Write grids into one file, whole or not at all. Raises OSError."""
    with whole_file(path) as part, part.open("wb") as file:
        file.write(struct.pack("<qIII?", MAGIC, FILE_VERSION, *LIBRARY, True))
        file.write(str(uuid.uuid4()).encode())
        _words(file, {"creator": f"dovrek {__version__}", **said}, {})
        file.write(struct.pack("<I", len(volumes)))
        for volume in volumes:
            _grid(file, volume)


def _text(text: str) -> bytes:
    raw = text.encode()
    return struct.pack("<I", len(raw)) + raw


def _words(file: BinaryIO, words: dict[str, str], more: dict[str, tuple[str, bytes]]) -> None:
    """A block of named values: texts, and others by type and bytes."""
    file.write(struct.pack("<I", len(words) + len(more)))
    for name, text in words.items():
        file.write(_text(name) + _text("string") + _text(text))
    for name, (kind, raw) in more.items():
        file.write(_text(name) + _text(kind) + struct.pack("<I", len(raw)) + raw)


def _grid(file: BinaryIO, volume: Volume) -> None:
    file.write(_text(volume.name) + _text(TREE) + _text(""))
    offsets = file.tell()
    file.write(bytes(24))  # where grid, values and end lie: known at the end
    begin = file.tell()
    file.write(struct.pack("<I", ACTIVE_MASK))
    low, high = _extent(volume)
    count = int(np.count_nonzero(volume.values))
    _words(file, {"class": "fog volume", "name": volume.name, "unit": "1/m", **volume.said}, {
        "file_bbox_min": ("vec3i", struct.pack("<3i", *low)),
        "file_bbox_max": ("vec3i", struct.pack("<3i", *high)),
        "file_voxel_count": ("int64", struct.pack("<q", count)),
        "is_local_space": ("bool", b"\x00"),
    })
    size = volume.voxel_m
    middle = [c + 0.5 * size for c in volume.corner]  # of the first voxel: where its value holds
    file.write(_text("UniformScaleTranslateMap"))
    for triple in (middle, [size] * 3, [size] * 3, [1 / size] * 3, [1 / size**2] * 3,
                   [0.5 / size] * 3):
        file.write(struct.pack("<3d", *triple))
    order, masks = _topology(file, volume)
    values_at = file.tell()
    _values(file, volume, order, masks)
    end = file.tell()
    file.seek(offsets)
    file.write(struct.pack("<3q", begin, values_at, end))
    file.seek(end)


def _extent(volume: Volume) -> tuple[list[int], list[int]]:
    if len(volume.places) == 0:
        return [0, 0, 0], [-1, -1, -1]
    low, high = volume.places.min(axis=0), volume.places.max(axis=0) + LEAF - 1
    return [int(v) for v in low], [int(v) for v in high]


def _topology(file: BinaryIO, volume: Volume
              ) -> tuple[NDArray[np.int64], NDArray[np.uint8]]:
    """Root, nodes and the masks of leaves; gives the leaves' order and their masks (N, 64)."""
    places = volume.places.astype(np.int64)
    upper = places // UPPER
    inside_upper = (places % UPPER) // LOWER
    inside_lower = (places % LOWER) // LEAF
    lower_at = (inside_upper[:, 0] * 32 + inside_upper[:, 1]) * 32 + inside_upper[:, 2]
    leaf_at = (inside_lower[:, 0] * 16 + inside_lower[:, 1]) * 16 + inside_lower[:, 2]
    order = np.lexsort((leaf_at, lower_at, upper[:, 2], upper[:, 1], upper[:, 0]))
    masks = np.packbits(volume.values > 0.0, axis=1, bitorder="little")
    upper, lower_at, leaf_at = upper[order], lower_at[order], leaf_at[order]
    roots, starts = np.unique(upper, axis=0, return_index=True) if len(order) else (
        np.zeros((0, 3), np.int64), np.zeros(0, np.int64))
    by_root = [int(s) for s in np.sort(starts)] + [len(order)]
    file.write(struct.pack("<IfII", 1, 0.0, 0, len(roots)))
    for k in range(len(roots)):
        first, last = by_root[k], by_root[k + 1]
        file.write(struct.pack("<3i", *(int(v) * UPPER for v in upper[first])))
        children = np.unique(lower_at[first:last])
        _node(file, children, 32**3)
        cuts = np.searchsorted(lower_at[first:last], children)
        for child, cut in enumerate(cuts):
            a = first + int(cut)
            b = first + int(cuts[child + 1]) if child + 1 < len(cuts) else last
            _node(file, leaf_at[a:b], 16**3)
            file.write(masks[order[a:b]].tobytes())
    return order, masks


def _node(file: BinaryIO, children: NDArray[np.int64], size: int) -> None:
    """A node without values of its own: which children it has."""
    present = np.zeros(size, dtype=bool)
    present[children] = True
    file.write(np.packbits(present, bitorder="little").tobytes() + bytes(size // 8) + NO_OTHERS)


def _values(file: BinaryIO, volume: Volume, order: NDArray[np.int64],
            masks: NDArray[np.uint8]) -> None:
    """Of every leaf its mask and its active values."""
    for index in order:
        row = volume.values[index]
        file.write(masks[index].tobytes() + NO_OTHERS + row[row > 0.0].tobytes())
