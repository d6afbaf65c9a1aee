"""The flat field of a layer, or of all of them: bytes, clouds, records."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from dovrek.core.clouds.drape import Lift
from dovrek.core.clouds.measure import EYE_DEPTH, MEASURED_M, column_depths
from dovrek.core.clouds.placement.stand import Cells
from dovrek.core.clouds.record import INSTANCE, Field, copied
from dovrek.core.clouds.shapes import Shapes
from dovrek.core.clouds.values import (
    Chart,
    Record,
)
from dovrek.core.compile.noise import noise_volumes
from dovrek.core.run.stage import Tools, stage


@stage("solids")
def solids(tools: Tools, forms: list[Shapes], charts: list[Chart],
           pulls: tuple[NDArray[np.uint8], ...] = ()) -> NDArray[np.uint8]:
    """Bytes of a field: noise, the forms of heaps, cover maps, lands that layers gather by."""
    own = [*(f.distance.ravel() for f in forms), *(c.cover.ravel() for c in charts),
           *(pull.ravel() for pull in pulls)]
    return np.concatenate([noise_volumes(), *own]) if own else noise_volumes()


@stage("joined cells")
def joined_cells(tools: Tools, stood: list[Cells], lands: list[Lift]) -> tuple[Any, Any, Any]:
    """Clearances, instances and links of all heaped layers, one behind the other; behind the
    clearances the lands that layers follow."""
    if len(stood) == 1 and not lands:
        return stood[0].clearances, stood[0].instances, stood[0].links
    none = Cells(np.zeros(0, np.float32), np.zeros(0, INSTANCE), np.zeros(0, np.int32), 0, 0.0)
    there = stood or [none]
    return (np.concatenate([*(c.clearances for c in there), *(x.heights.ravel() for x in lands)]),
            np.concatenate([c.instances for c in there]),
            np.concatenate([c.links for c in there]))


def peopled(record: Record, stood: Cells | None) -> Record:
    """The record of a heaped layer with its clouds' places in a field of its own; others as is."""
    if stood is None:
        return record
    record = copied(record)
    p = record[0]
    p["squares"], p["period"], p["members_at"] = stood.squares, stood.period_m, stood.squares**2 + 1
    return record


def field_of(record: Record, solid: NDArray[np.uint8], stood: Cells | None) -> Field:
    """A field of one layer."""
    none = Cells(np.zeros(0, np.float32), np.zeros(0, INSTANCE), np.zeros(0, np.int32), 0, 0.0)
    there = stood or none
    return Field(peopled(record, stood), solid, there.clearances, there.instances, there.links)


def covered(field: Field, tools: Tools) -> float:
    """Share of the measured square under cloud deep enough for the eye."""
    count, steps = 72, max(10, int(field.layers[0]["thickness"] / 110.0))
    depths, lengths = np.empty((count, count)), np.empty((count, count))
    tools.workers.over(tools.cancel, chunk=6)(lambda i0, i1: column_depths(
        field, 0, 0.5 * MEASURED_M, count, steps, i0, i1, depths, lengths), count)
    return float(np.mean(depths > EYE_DEPTH))
