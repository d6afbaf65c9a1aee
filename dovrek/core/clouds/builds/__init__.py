"""Builds of cloud: one way in which density comes about a file. To add one, write its file after
the pattern of `slab`, and name it in BUILDS; all else learns of it by itself.

A build knows noise, textures and masks, and nothing of light, air or views.
"""

from __future__ import annotations

from dovrek.core.clouds.builds import cells, face, fog, heaps, lenses, sheet, slab, storm, veil
from dovrek.core.clouds.builds.build import Build
from dovrek.core.compile.choosing import chosen
from dovrek.sky.genera import CELLS, HEAPS, SHEETS, VEILS
from dovrek.sky.layer import Layer

BUILDS: tuple[Build, ...] = (heaps.BUILD, sheet.BUILD, cells.BUILD, storm.BUILD, face.BUILD,
                             veil.BUILD, slab.BUILD, lenses.BUILD, fog.BUILD)
PLANNED = sum(b.plan is not None for b in BUILDS)  # they come first
HEAPED_SPECIES = {"castellanus", "floccus", "fractus"}
_OF_GENUS: dict[str, Build] = (
    dict.fromkeys(HEAPS, heaps.BUILD) | dict.fromkeys(CELLS, cells.BUILD)
    | dict.fromkeys(SHEETS, sheet.BUILD) | dict.fromkeys(VEILS, veil.BUILD)
    | {"slab": slab.BUILD, "fog": fog.BUILD})

# Kernels that take the build's place in BUILDS, then what the build's own kernel takes; `plan_of`
# and `sample_on` know those with a plan.
sample_of = chosen("cloud_samples", [b.sample for b in BUILDS],
                   "field, p, x, y, z, footprint, detail")
plan_of = chosen("cloud_plans", [b.plan for b in BUILDS[:PLANNED]], "field, p, x, y, footprint")
sample_on = chosen("cloud_samples_on", [b.on_plan for b in BUILDS[:PLANNED]],
                   "field, p, x, y, z, plan, footprint, detail")
score_of = chosen("cloud_scores", [b.score for b in BUILDS], "field, p, x, y, footprint")


def build_of(layer: Layer) -> Build:
    """How a layer's body is made: by its genus, and by species and arrangements that are
    built otherwise."""
    if layer.cyclone.stands:
        return storm.BUILD
    if layer.systems.stands:
        return face.BUILD
    if layer.species == "lenticularis":
        return lenses.BUILD
    if layer.species in HEAPED_SPECIES and layer.genus not in VEILS:
        return heaps.BUILD
    return _OF_GENUS[layer.genus]
