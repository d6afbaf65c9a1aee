"""What a ray needs while it is followed: records that one thread uses again for every ray."""

from __future__ import annotations

import numpy as np

SPANS_MOST = 80  # stretches of a ray within layers
ACTIVE_MOST = 41  # layers at one place: all of a sky, their heroes by their washes, and its fog

# Stretches of a ray within the shells of layers (`spans.layer_spans`).
SPANS = np.dtype([
    ("count", "i8"),
    ("starts", "f8", (SPANS_MOST,)), ("ends", "f8", (SPANS_MOST,)),  # metres along the ray
    ("owner", "i8", (SPANS_MOST,)),  # layer of each
    ("cuts", "f8", (2 * SPANS_MOST,)),  # all starts and ends, sorted
    ("hits", "f8", (2,)),
], align=True)

# A ray of the march: what it is given, what its direction means, what it carries along.
WALK = np.dtype([
    ("x0", "f8"), ("y0", "f8"), ("height", "f8"),  # where it starts, metres
    ("dx", "f8"), ("dy", "f8"), ("dz", "f8"),  # unit vector: east, north, up
    ("level", "f8"),  # sine of its angle from the zenith
    ("pixel_m", "f8"), ("pixel_rad", "f8"),  # width of a pixel: metres + radians · distance
    ("random", "f8"), ("stream", "i8"),  # shift of its samples, 0 … 1, and their series
    ("elevation", "f8"), ("azimuth", "f8"),  # radians
    ("cosine", "f8"), ("haze", "f8"),  # of the angle to the sun; the haze's phase function there
    ("row", "f8"), ("ring", "f8", (3,)),  # row of the beam's tables; light of a halo
    ("on_land", "i8"),  # 1 when what the ray meets is the land
    ("ground_t", "f8"), ("limit", "f8"), ("r0", "f8"),  # metres: ground or −1, end, from the centre
    ("through", "f8"), ("through_scaled", "f8"),  # transmittance, true and scaled
    ("depth", "f8"),  # optical depth so far
    ("weight", "f8"), ("weight_t", "f8"),  # of cloud whose air is not settled; times distance
    ("seen_weight", "f8"), ("seen_t", "f8"),  # of all cloud; times distance
    ("first_t", "f8"), ("half_t", "f8"), ("last_t", "f8"),  # first, half of, last cloud: metres
    ("opaque", "i8"), ("steps", "i8"),
    ("x", "f8"), ("y", "f8"), ("h", "f8"),  # the sample's place, metres
    ("sigma", "f8"), ("sigma_scaled", "f8"), ("sigma_last", "f8"),  # 1/m, all layers
    ("active", "i8"), ("here", "i8", (ACTIVE_MOST,)), ("sigmas", "f8", (ACTIVE_MOST,)),
    ("known", "f8"),  # metres ahead for which the last look's clear air holds
    ("tap_depth", "f8"), ("tap_near", "f8"), ("tap_age", "i8"),  # toward the sun
    ("total", "f8", (3,)), ("batch", "f8", (3,)), ("latest", "f8", (3,)),  # XYZ gathered
    ("sunlight", "f8", (3,)), ("behind", "f8", (3,)),
    ("scatter", "f8", (3,)), ("passed", "f8", (3,)),  # of air
    ("matte", "f8", (ACTIVE_MOST,)),
    ("grid", "f8", (6,)), ("place", "f8", (3,)), ("parts", "f8", (9,)),  # of look-ups
    ("tones", "f8", (9,)),  # of a layer's wash (`tones`)
    # Of water: share of the mirrored sky, where a ray toward that starts and its rise; and whether
    # this ray is such a one
    ("mirrored", "f8"), ("mirror_x", "f8"), ("mirror_y", "f8"), ("mirror_rise", "f8"),
    ("mirror", "i8"),
    ("day", "f8", (6,)),  # of the place (`look_ups.day_there`)
    ("weights_i", "f8", (4,)), ("weights_j", "f8", (4,)), ("normal", "f8", (3,)),
], align=True)

NODES = 32  # of a ray between the eye and the highest cloud, at most
# Shadows of clouds and land in the haze along a ray (`shadow_rays.find_shadows`).
SHADOWS = np.dtype([
    ("nodes", "i8"),  # how many there are
    ("lit", "f8", (NODES,)),  # lit part of the haze's light up to each node
    ("far", "f8"),  # distance of the last node, metres
    ("haze", "f8", (3,)),  # of the haze's light up to there, XYZ
    ("cut", "i8"),  # 1 if the ray goes on in shadow beyond the last node
], align=True)

# A path of the path tracer.
PATH = np.dtype([
    ("here", "i8", (ACTIVE_MOST,)), ("sigmas", "f8", (ACTIVE_MOST,)),
    ("layer", "i8"),  # that the last flight met
    ("at", "f8", (3,)),  # place, metres in the level plane at the camera's ground point
    ("light", "f8", (3,)), ("tint", "f8", (3,)), ("total", "f8", (3,)),
    ("tones", "f8", (9,)), ("washed", "i8"),  # of the layer's wash that tints it; −1 before it
    # has met one, −2 once none does: the ground has turned it, or it shows through
    ("normal", "f8", (3,)), ("back", "f8", (3,)),  # of a surface it meets; toward where it came,
    # then the normal of a wave
    ("look", "f8", (14,)), ("away", "f8", (3,)), ("kept", "f8", (3,)),  # of sky and air
], align=True)
