"""Layers as an OpenVDB file of density."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from dovrek.core.volume.voxels import Box, joined_blocks, rows_of
from dovrek.formats.openvdb import LEAF, Volume, write_volumes
from dovrek.formats.whole_file import whole_file
from dovrek.prints.cluster import result_of, submitted
from dovrek.prints.makers.task import Task, computed, with_sidecar
from dovrek.prints.parts import boxes_of, compute_rows
from dovrek.prints.stored import store_blocks, stored_blocks
from dovrek.store.orders import VOXELS_MOST, OrderError

ROWS = 4  # of towers, in one part
PLAN, PLAN_SIDE = "-plan.png", 480


def volume(task: Task) -> list[Path]:
    """The file and its sidecar. Raises OrderError for a box that cannot be."""
    order, rain = task.order, task.order.rain == "yes"
    every: dict[str, Box] = result_of(
        submitted(task.client(), boxes_of, task.document, order.voxel_m, order.extent_m, rain),
        task.progress.beat)
    boxes = {layer: box for layer, box in every.items() if order.layer in ("", layer)}
    if not boxes:
        raise OrderError("layer: nothing of it is shown as cloud; choose another layer")
    most = max(box.voxels for box in boxes.values())
    if most > VOXELS_MOST:
        fits = order.voxel_m * (most / VOXELS_MOST) ** (1 / 3)
        raise OrderError(f"voxel_m: {most:,} voxels are more than {VOXELS_MOST:,}; give "
                         f"{fits:.1f} m or a smaller extent")
    parts = [(layer, k) for layer, box in boxes.items() for k in range(0, rows_of(box), ROWS)]
    places = {(layer, k): task.parts / f"rows-{layer}-{k:05d}.npz" for layer, k in parts}
    missing = [part for part in parts if stored_blocks(places[part]) is None]
    task.progress.total, task.progress.done = len(parts), len(parts) - len(missing)
    task.progress.beat()
    computed(task, missing,
             lambda client, part: submitted(
                 client, compute_rows, task.document, part[0], boxes[part[0]],
                 (part[1], min(part[1] + ROWS, rows_of(boxes[part[0]]))), rain),
             lambda part, blocks: store_blocks(places[part], blocks))
    wish = task.wish()
    numbers = task.numbers(wish)
    grids = []
    named = {x.id: x for x in task.sky.layers}
    for layer, box in boxes.items():
        task.progress.beat("writing the file")
        blocks = joined_blocks([found for part in parts if part[0] == layer
                                and (found := stored_blocks(places[part])) is not None])
        grids.append(Volume("density" if len(boxes) == 1 else f"density_{layer}", order.voxel_m,
                            (box.x, box.y, box.z), *blocks, {
            "layer": named[layer].name or layer, "genus": named[layer].genus,
            "axes": "x east, y north, z up, metres from the camera's foot"}))
    path, plan = task.prints / f"{task.name}.vdb", task.prints / f"{task.name}{PLAN}"
    try:
        write_volumes(path, grids, {"sky": task.sky.name})
        with whole_file(plan) as part:
            plan_of(grids, order.extent_m).save(part, "PNG")
    except OSError:
        path.unlink(missing_ok=True)
        raise
    return with_sidecar(task, [path, plan], numbers, [], {
        "projection": "volume", "voxel_m": order.voxel_m, "extent_m": order.extent_m,
        "voxels": sum(box.voxels for box in boxes.values()),
        "grids": [grid.name for grid in grids], "units": "extinction, 1/m"})


def plan_of(grids: list[Volume], extent_m: float) -> Image.Image:
    """The volume from above, north up: how much light comes straight down through it."""
    depth = np.zeros((PLAN_SIDE, PLAN_SIDE))
    for grid in grids:
        block = LEAF * grid.voxel_m
        # Optical depth of the columns of a block, here as the mean over it.
        columns = grid.values.mean(axis=1) * block
        x = (grid.corner[0] + (grid.places[:, 0] + LEAF / 2) * grid.voxel_m) / extent_m + 0.5
        y = 0.5 - (grid.corner[1] + (grid.places[:, 1] + LEAF / 2) * grid.voxel_m) / extent_m
        half = max(0.5 * block / extent_m * PLAN_SIDE, 0.5)
        for left, top, value in zip(x * PLAN_SIDE - half, y * PLAN_SIDE - half, columns,
                                    strict=True):
            depth[max(round(top), 0) : max(round(top + 2 * half), 0),
                  max(round(left), 0) : max(round(left + 2 * half), 0)] += value
    grey = np.asarray(235.0 - 190.0 * np.exp(-0.25 * depth), dtype=np.uint8)
    return Image.fromarray(grey)
