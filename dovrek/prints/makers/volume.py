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
from dovrek.store.orders import OrderError, refuse_voxels

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
    refuse_voxels(order, max(box.voxels for box in boxes.values()))
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
    side = max(min(int(extent_m / grids[0].voxel_m), PLAN_SIDE), 1)
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
