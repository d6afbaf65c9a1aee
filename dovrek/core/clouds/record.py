"""What kernels read of a layer and of its clouds: records with names and units."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

HEAPED, SHEET, VEIL = range(3)  # forms: separate clouds, a level sheet, thin ice
EVAPORATES, TEARS, SUBSIDES = range(3)  # endings
PROFILE_NODES = 12

# Name, type (or nested shape), unit, meaning. Heights count from the layer's base, places in metres
# east and north of the camera's foot.
LAYER_FIELDS: tuple[tuple[str, str | tuple[str, tuple[int, ...]], str, str], ...] = (
    ("build", "i8", "", "place of its build among `builds.BUILDS`"),
    ("form", "i8", "", "HEAPED, SHEET or VEIL: how it is lit"),
    ("base", "f8", "m", "height of the base above the ground"),
    ("thickness", "f8", "m", ""),
    ("lowest", "f8", "m", "where cloud, or what falls from it, begins"),
    ("highest", "f8", "m", "where cloud ends"),
    ("step", "f8", "m", "basic step of the march"),
    ("coarsest", "f8", "m", "width beyond which its pattern is looked at place by place: a mean of "
     "it would have no gaps"),
    ("level_step", "f8", "m", "longest step of a level ray, over that basic one; 0: as others"),
    # Substance and surface
    ("extinction", "f8", "1/m", "inside the cloud"),
    ("most", "f8", "1/m", "extinction that is nowhere exceeded"),
    ("edge", "f8", "m", "over which extinction rises from nothing"),
    ("fray", "f8", "0 … 1", ""),
    ("lobes", "f8", "0 … 1", ""),
    ("curl", "f8", "0 … 1", ""),
    ("skin", "f8", "0 … 1", "of a heap's lumps that a flat one has room for"),
    ("round_base", "f8", "", "1 as usual, 0 level"),
    ("anvil", "f8", "0 … 1", ""),
    ("profiled", "f8", "0 or 1", "whether `profile` counts"),
    ("profile", ("f8", (PROFILE_NODES,)), "0 … 1", "density by height"),
    # Cells and rows
    ("cell_size", "f8", "m", ""),
    ("cell_seed", "i8", "", ""),
    ("spread", "f8", "0 … 1", ""),
    ("huddle", "f8", "0 … 1", ""),
    ("rows", "f8", "0 … 1", "how far gathered into rows"),
    ("row_x", "f8", "", "direction across the rows, east"),
    ("row_y", "f8", "", "and north"),
    ("row_spacing", "f8", "m", ""),
    ("patchiness", "f8", "0 … 1", "of the rows"),
    # Wind
    ("wind_x", "f8", "", "where the wind blows to, east"),
    ("wind_y", "f8", "", "and north"),
    ("comb", "f8", "0 … 1", ""),
    ("slant", "f8", "", "metres downwind for every metre up"),
    ("lean", "f8", "", "what slant leaves of a distance"),
    # Motion
    ("drift_x", "f8", "m", "how far its field has gone, east"),
    ("drift_y", "f8", "m", "and north"),
    ("fade", "f8", "0 … 1", "share of a second copy of the field, in a loop"),
    ("fade_x", "f8", "m", "how far that one has gone, east"),
    ("fade_y", "f8", "m", "and north"),
    ("churn_slow", "f8", "", "tiles that its pattern has moved on through its noise"),
    ("churn", "f8", "", "the same of its lumps"),
    ("churn_fine", "f8", "", "and of their skin"),
    ("back_x", "f8", "m", "by which heaps born in this turn of a loop are set back, east"),
    ("back_y", "f8", "m", "and north"),
    # Where it stands
    ("level", "f8", "", "score above which a sheet has cloud"),
    ("stages_apart", "f8", "", "score by which parts differ in their stage of life"),
    ("ending", "i8", "", "EVAPORATES, TEARS or SUBSIDES"),
    ("shift_x", "f8", "m", "start of its own noise"),
    ("shift_y", "f8", "m", ""),
    ("clearing_share", "f8", "0 … 1", ""),
    ("clearing_size", "f8", "m", ""),
    ("clearing_edge", "f8", "0 … 1", ""),
    ("clearing_centre", "f8", "", "value of the noise at a clearing's border"),
    ("clearing_x", "f8", "m", "start of the clearings' noise"),
    ("clearing_y", "f8", "m", ""),
    ("masked", "f8", "0 or 1", "whether a region or a map bounds it"),
    ("region_side", "f8", "", "1 inside, −1 outside, 0 everywhere"),
    ("region_size", "f8", "m", ""),
    ("region_edge", "f8", "0 … 1", ""),
    ("region_centre", "f8", "", "value of the noise at a region's border"),
    ("region_x", "f8", "m", "start of the regions' noise"),
    ("region_y", "f8", "m", ""),
    ("map_at", "i8", "", "first byte of the cover map in the field's bytes"),
    ("map_rows", "i8", "", ""),
    ("map_columns", "i8", "", ""),
    ("map_extent", "f8", "m", "width"),
    ("map_cos", "f8", "", "of its turn"),
    ("map_sin", "f8", "", ""),
    ("map_strength", "f8", "0 … 1", ""),
    # Bounds
    ("bank", "i8", "", "NO_BANK, ELLIPSE or BOX of `bank`"),
    ("bank_x", "f8", "m", "its middle in the layer's field, east"),
    ("bank_y", "f8", "m", "and north"),
    ("bank_sin", "f8", "", "of its bearing"),
    ("bank_cos", "f8", "", ""),
    ("bank_length", "f8", "m", "half of it"),
    ("bank_width", "f8", "m", "half of it"),
    ("bank_edge", "f8", "0 … 1", "share over which it closes"),
    ("bank_lean", "f8", "", "what its sinking top leaves of a distance"),
    # A turning storm
    ("storm_x", "f8", "m", "its middle in the layer's field, east"),
    ("storm_y", "f8", "m", "and north"),
    ("storm_sign", "f8", "", "1 against the clock, −1 with it"),
    ("storm_radius", "f8", "m", ""),
    ("storm_wall", "f8", "m", "outer radius of the eyewall"),
    ("storm_eye", "f8", "m", ""),
    ("storm_arms", "f8", "", ""),
    ("storm_pitch", "f8", "", "tangent of the arms' angle to a circle"),
    ("storm_width", "f8", "0 … 1", "of the arms"),
    ("storm_ragged", "f8", "0 … 1", ""),
    ("storm_shield", "f8", "0 … 1", ""),
    ("storm_high", "f8", "0 … 1", "height of outer arms over the eyewall's"),
    ("storm_sea", "f8", "0 … 1", "share of low cells about it"),
    ("storm_angle", "f8", "rad", "by which its arms have turned"),
    ("storm_phase", "f8", "rad", "by which the flow has wound its middle on"),
    ("storm_other", "f8", "rad", "the same of a loop's second winding"),
    ("storm_share", "f8", "0 … 1", "of that one"),
    # Weather over a whole face of the planet
    ("face_size", "f8", "m", "from one system to the next"),
    ("face_fronts", "f8", "0 … 1", ""),
    ("face_bands", "f8", "0 … 1", ""),
    ("face_cells", "f8", "0 … 1", ""),
    ("face_latitude", "f8", "rad", "of the site"),
    ("face_per_m", "f8", "rad/m", "latitude for a way north"),
    # The land it follows
    ("drape", "f8", "0 … 1", "share of the land's height that it is lifted by"),
    ("drape_at", "i8", "", "the land's first height among the field's clearances"),
    ("drape_squares", "i8", "", "a side"),
    ("drape_square", "f8", "m", ""),
    ("drape_east", "f8", "m", "the land's middle"),
    ("drape_north", "f8", "m", ""),
    ("drape_cos", "f8", "", "of its turn"),
    ("drape_sin", "f8", "", ""),
    ("drape_from", "f8", "m", "height of the land at which it is not lifted"),
    ("drape_lean", "f8", "", "what the land's slopes leave of a distance"),
    # The land it gathers by
    ("gather", "f8", "", "of its score, from the lowest land to the highest; 0: it does not"),
    ("gather_at", "i8", "", "first byte of the land's pull in the field's bytes"),
    ("gather_n", "i8", "", "cells a side"),
    ("gather_cell", "f8", "m", ""),
    ("gather_east", "f8", "m", "the land's middle in the layer's field"),
    ("gather_north", "f8", "m", ""),
    ("gather_cos", "f8", "", "of its turn"),
    ("gather_sin", "f8", "", ""),
    # Heaps: shapes, instances, and squares in which they are found
    ("shapes_at", "i8", "", "first byte of the shapes in the field's bytes"),
    ("shape_n", "i8", "", "voxels across"),
    ("shape_nz", "i8", "", "voxels up"),
    ("shape_half_width", "f8", "m", ""),
    ("shape_voxel", "f8", "m", ""),
    ("shape_reach", "f8", "m", "distance that the greatest byte stands for"),
    ("shape_floor", "f8", "m", "height of the lowest voxel's centre"),
    ("shape_squash", "f8", "", "real heights over the grid's"),
    ("instances_at", "i8", "", "its first cloud among the field's instances"),
    ("clearances_at", "i8", "", "its first square among the field's clearances"),
    ("starts_at", "i8", "", "its first square's start among the field's links"),
    ("members_at", "i8", "", "its first member among the field's links"),
    ("squares", "i8", "", "a side"),
    ("period", "f8", "m", "after which the heaps repeat"),
    # What falls from it
    ("fall", "f8", "1/m", "extinction of its rain at the base"),
    ("fall_reach", "f8", "m", "how far below the base it falls"),
    ("rain_ground", "f8", "", "light on ground beneath it over that on the whole"),
    # Light
    ("matte_at", "i8", "", "place of its layer's matte"),
    ("phase", "i8", "", "place of its phase function among `phase.PHASES`"),
    ("k_scaled", "f8", "0 … 1", "extinction left by delta scaling"),
    ("g_scaled", "f8", "", "asymmetry left by it"),
    ("halo", "f8", "0 … 1", ""),
    ("tint_lit", ("f8", (3,)), "", "wash of sunlight, by X, Y and Z"),
    ("tint_body", ("f8", (3,)), "", "wash of the sky's light"),
    ("tint_base", ("f8", (3,)), "", "wash of the ground's light"),
    ("styled", "i8", "0 or 1", "whether its wash has more than three tones"),
    ("body_from", "f8", "0 … 1", "share of the thickness from which the body's tone is"),
    ("lit_from", "f8", "0 … 1", "and the lit side's"),
    ("tones_soft", "f8", "0 … 1", "how softly they meet"),
    ("edged", "i8", "0 or 1", ""),
    ("tint_edge", ("f8", (3,)), "", "wash of thin edges, brightness too"),
    ("blotches", "f8", "0 … 1", "share of the shade that blotches take"),
    ("tint_blotch", ("f8", (3,)), "", "their wash"),
    ("blotch_centre", "f8", "", "value of the noise at a blotch's rim"),
    ("blotch_size", "f8", "m", ""),
    ("blotch_x", "f8", "m", "start of their noise"),
    ("blotch_y", "f8", "m", ""),
    ("grid_at", "i8", "", "its first number in the scene's light grids"),
    ("grid_n", "i8", "", "cells across"),
    ("grid_nz", "i8", "", "cells up"),
    ("grid_levels", "i8", "", ""),
    ("grid_dx", "f8", "m", "of the innermost level"),
    ("grid_dz", "f8", "m", ""),
    ("grid_z0", "f8", "m", "bottom of the lowest cell"),
    ("grid_x", "f8", "m", "its middle, east"),
    ("grid_y", "f8", "m", "and north"),
)


def _record(fields: tuple[tuple[str, str | tuple[str, tuple[int, ...]], str, str], ...]
            ) -> np.dtype[np.void]:
    plain = [(name, *kind) if isinstance(kind, tuple) else (name, kind)
             for name, kind, _, _ in fields]
    return np.dtype(plain, align=True)


LAYER = _record(LAYER_FIELDS)

# A heaped cloud that stands.
INSTANCE = _record((
    ("x", "f4", "m", "place of its axis, from 0 to the period"),
    ("y", "f4", "m", ""),
    ("scale", "f4", "", "over full size"),
    ("turn_cos", "f4", "", "of its turn about the axis"),
    ("turn_sin", "f4", "", ""),
    ("shape", "i4", "", "place among the layer's shapes"),
    ("reach", "f4", "m", "radius beyond which nothing of it is"),
    ("top", "f4", "m", ""),
    ("tall", "f4", "", "its height over what its scale makes it"),
    ("age", "f4", "0 … 1", ""),
    ("dense", "f4", "", "its extinction over the layer's"),
    ("late", "f4", "0 or 1", "whether it is set back by the layer's `back`"),
))

# A heaped cloud that may stand.
POSSIBLE = _record((
    ("x", "f8", "m", "place of its axis, from 0 to the period"),
    ("y", "f8", "m", ""),
    ("size", "f8", "0 … 1", "scale when full grown; 0: it never stands"),
    ("turn_cos", "f8", "", ""),
    ("turn_sin", "f8", "", ""),
    ("shape", "i8", "", "place among the layer's shapes"),
    ("rank", "f8", "", "level of growth from which it stands"),
    ("luck", "f8", "0 … 1", "what sets its life apart from others'"),
    ("due", "f8", "0 … 1", "when in a turn of lives another takes its place"),
))


def copied(record: NDArray[np.void]) -> NDArray[np.void]:
    """A record to be filled on: its bytes at once, where a copy would go from field to field."""
    return np.frombuffer(bytearray(record.tobytes()), record.dtype)


class Field(NamedTuple):
    """Everything density needs, flat, for all layers of a scene.

    Few arrays, since every call of a kernel copies the description of each.
    """

    layers: NDArray[np.void]  # (L,) LAYER
    bytes: NDArray[np.uint8]  # noise volumes, then shapes of heaped layers and cover maps
    clearances: NDArray[np.float32]  # by square, metres to the nearest cloud, 0 where some are;
    # then, in metres, the lands that layers follow
    instances: NDArray[np.void]  # INSTANCE
    links: NDArray[np.int32]  # of each heaped layer: where its squares' members start, the members
