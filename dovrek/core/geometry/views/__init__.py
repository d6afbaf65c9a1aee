"""Views: one way to look at a sky a file. To add one, write its file after the pattern of `dome`
and name it in VIEWS; command line, page and script learn of it by themselves.

A view knows frames and directions, and nothing of air, clouds or light.
"""

from __future__ import annotations

from dovrek.core.compile.choosing import chosen
from dovrek.core.compile.kernels import kernel
from dovrek.core.geometry.views import dome, falling, fisheye, picture, plan
from dovrek.core.geometry.views.view import Frame, Lens, View
from dovrek.sky.document import Camera

VIEWS: tuple[View, ...] = (picture.VIEW, dome.VIEW, plan.VIEW, fisheye.VIEW, falling.VIEW)
OFFERED = {view.name: view for view in VIEWS if view.name}

_rays = chosen("view_rays", [v.ray for v in VIEWS], "lens, u, v, place, ray")
_pixels = chosen("view_pixels", [v.pixel for v in VIEWS], "lens, width, height")


@kernel
def ray_of(lens, u, v, place, ray):
    """Start (east, north: m) and unit direction (east, north, up) of a place in the frame, u and
    v from 0 to 1 rightward and downward."""
    _rays(lens.projection, lens, u, v, place, ray)


@kernel
def pixel_size(lens, width, height):
    """Angle of a pixel (radians), or its width in metres on a plan."""
    return _pixels(lens.projection, lens, width, height)


def lens_of(view: View, camera: Camera, frame: Frame) -> Lens:
    """The lens of a view."""
    return view.lens(camera, frame)._replace(projection=VIEWS.index(view))
