"""The disc of the body that lights a scene."""

from __future__ import annotations

import math

from dovrek.core.compile.arithmetic import clamp
from dovrek.core.compile.kernels import kernel


@kernel
def sun_disc_share(scene, elevation, azimuth, pixel):
    """Share of the disc's mean radiance seen in a direction: limb darkening, soft by a pixel.

    Source of the darkening: Neckel & Labs 1994 at 550 nm as I/I0 = 0.3 + 0.93 µ − 0.23 µ².
    """
    sun = scene.sun
    radius = sun.radius
    turn = (azimuth - sun.azimuth + math.pi) % (2.0 * math.pi) - math.pi
    dx = turn * math.cos(sun.elevation)
    dy = (elevation - sun.elevation) / sun.flattening
    d = math.sqrt(dx * dx + dy * dy)
    soft = max(pixel, 1e-5)
    edge = clamp((radius - d) / soft + 0.5, 0.0, 1.0)
    if edge <= 0.0:
        return 0.0
    lit = sun.lit
    if lit < 1.0:  # the moon: its terminator is half an ellipse; no darkening to the limb
        c, s = math.cos(sun.limb), math.sin(sun.limb)
        along, across = (dx * s + dy * c) / radius, (dx * c - dy * s) / radius
        limb = (1.0 - 2.0 * lit) * math.sqrt(max(1.0 - across * across, 0.0))
        return edge * clamp((along - limb) * radius / soft + 0.5, 0.0, 1.0) / max(lit, 1e-3)
    mu = math.sqrt(max(1.0 - min(d / radius, 1.0) ** 2, 0.0))
    return edge * (0.3 + 0.93 * mu - 0.23 * mu * mu) / 0.805
