"""Layers as an OpenVDB file of density."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from PIL import Image

from dovrek.core.picture.clip import seconds_of
from dovrek.core.volume.voxels import Box, joined_blocks, rows_of
from dovrek.formats.openvdb import LEAF, Volume, grid_name, write_volumes
from dovrek.formats.whole_file import whole_file
from dovrek.prints.cluster import result_of, submitted
from dovrek.prints.makers.task import Task, computed, with_sidecar
from dovrek.prints.parts import boxes_of, compute_rows
from dovrek.prints.stored import store_blocks, stored_blocks
from dovrek.sky.seen import layers_of
from dovrek.store.orders import OrderError, refuse_voxels

ROWS = 4  # of towers, in one part
PLAN, PLAN_SIDE = "-plan.png", 480


class Part(NamedTuple):
    """Rows of towers of a layer at a frame."""

    frame: int
    layer: str
    row: int


def volume(task: Task) -> list[Path]:
    """The file with its plan, or those of each frame of the clip, and the sidecar. Raises
    OrderError for a box that cannot be."""
    order, rain = task.order, task.order.rain == "yes"
    seconds = [*seconds_of(task.sky)] if order.is_volumes else [None]
    boxes: list[dict[str, Box]] = []
    for second in seconds:
        every = result_of(submitted(task.client(), boxes_of, task.document, second,
                                    order.voxel_m, order.extent_m, rain), task.progress.beat)
        boxes.append({layer: box for layer, box in every.items() if order.layer in ("", layer)})
    if not any(boxes):
        raise OrderError("layer: nothing of it is shown as cloud; choose another layer")
    refuse_voxels(order, max(box.voxels for there in boxes for box in there.values()))
    parts = [Part(k, layer, row) for k, there in enumerate(boxes) for layer, box in there.items()
             for row in range(0, rows_of(box), ROWS)]
    places = {part: task.parts / f"rows-{part.frame:05d}-{part.layer}-{part.row:05d}.npz"
              for part in parts}
    missing = [part for part in parts if stored_blocks(places[part]) is None]
    task.progress.total, task.progress.done = len(parts), len(parts) - len(missing)
    task.progress.beat()

    def begun(give: Callable[..., Any], part: Part) -> Any:
        box = boxes[part.frame][part.layer]
        return give(compute_rows, task.document, seconds[part.frame], part.layer, box,
                    (part.row, min(part.row + ROWS, rows_of(box))), rain)

    computed(task, missing, begun, lambda part, blocks: store_blocks(places[part], blocks),
             runs=order.is_volumes)
    numbers = task.numbers(task.wish())
    done: list[Path] = []
    try:
        names: dict[str, None] = {}
        for k, there in enumerate(boxes):
            task.progress.beat("writing the file")
            grids = _grids(task, there, [(part.layer, places[part]) for part in parts
                                         if part.frame == k])
            names |= dict.fromkeys(grid.name for grid in grids)
            number = f"-{k:05d}" if order.is_volumes else ""
            done.append(task.prints / f"{task.name}{number}.vdb")
            write_volumes(done[-1], grids, {"sky": task.sky.name})
            done.append(done[-1].with_name(f"{done[-1].stem}{PLAN}"))
            with whole_file(done[-1]) as file:
                plan_of(grids, order.voxel_m, order.extent_m).save(file, "PNG")
    except OSError:
        for path in done:
            path.unlink(missing_ok=True)
        raise
    said = {"projection": "volume", "voxel_m": order.voxel_m, "extent_m": order.extent_m,
            "voxels": max(sum(box.voxels for box in there.values()) for there in boxes),
            "grids": list(names), "units": "extinction, 1/m"}
    if order.is_volumes:
        said |= {"frames": len(boxes), "frames_a_second": task.sky.motion.fps,
                 "length_s": task.sky.motion.length_s}
    return with_sidecar(task, done, numbers, [], said)


def _grids(task: Task, boxes: dict[str, Box], parts: list[tuple[str, Path]]) -> list[Volume]:
    """A grid for each layer, of the blocks that its parts hold."""
    named = {x.id: x for x in layers_of(task.sky)}
    grids = []
    for layer, box in boxes.items():
        blocks = joined_blocks([found for of, place in parts if of == layer
                                and (found := stored_blocks(place)) is not None])
        known = named.get(layer)
        grids.append(Volume(
            "density" if len(boxes) == 1 else f"density_{grid_name(layer)}", box.voxel_m,
            (box.x, box.y, box.z), *blocks, {
                "layer": (known and known.name) or layer, "genus": known.genus if known else "",
                "axes": "x east, y north, z up, metres from the camera's foot"}))
    return grids


def plan_of(grids: list[Volume], voxel_m: float, extent_m: float) -> Image.Image:
    """The volume from above, north up: how much light comes straight down through it."""
    side = max(min(int(extent_m / voxel_m), PLAN_SIDE), 1)
    depth = np.zeros((side, side))
    for grid in grids:
        # Optical depths of the columns of each block, shared out among the plan's squares.
        columns = grid.values.reshape(-1, LEAF, LEAF, LEAF).sum(axis=3) * grid.voxel_m
        across = np.arange(LEAF) + 0.5
        x, y = ((grid.corner[k] + (grid.places[:, k, None] + across) * grid.voxel_m) / extent_m
                for k in (0, 1))
        i, j = ((side * (0.5 + way * at)).astype(int).clip(0, side - 1)
                for way, at in ((1.0, x), (-1.0, y)))
        np.add.at(depth, (j[:, None, :], i[:, :, None]),
                  columns * (grid.voxel_m * side / extent_m) ** 2)
    grey = np.asarray(235.0 - 190.0 * np.exp(-0.25 * depth), dtype=np.uint8)
    return Image.fromarray(grey).resize((PLAN_SIDE, PLAN_SIDE), Image.Resampling.NEAREST)
