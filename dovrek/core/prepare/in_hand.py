"""What a picture under a moving hand takes from others near by: while the sun is dragged, clouds
are lit as by a sun a degree or two aside, and the sky lies between those of two suns that are
kept."""

from __future__ import annotations

import math

from dovrek.core.air.sky_view import Observer, SkyView
from dovrek.core.air.sun_place import Place
from dovrek.core.prepare.assembly import shade_of
from dovrek.core.prepare.atmosphere import AirNodes
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import HAND
from dovrek.core.run.maker import Maker
from dovrek.core.run.stage import Node, Tools, stage

# Suns whose light is kept, by their height: low ones change more.
LOW_SUN = math.radians(6.0)
STEPS, LOW_STEPS = math.radians(3.0), math.radians(1.0)


def _step(elevation: float) -> float:
    return STEPS if elevation > LOW_SUN else LOW_STEPS


def near_sun(sun: Place) -> Place:
    """The sun that lights the clouds in a sun's stead, of those kept."""
    step = _step(sun.elevation)
    elevation = step * round(sun.elevation / step)
    around = step / max(math.cos(elevation), 0.2)
    return Place(elevation, elevation, around * round(sun.azimuth / around))


@stage("sky in hand", kept=False)
def view_under(tools: Tools, one: SkyView, other: SkyView, share: float,
               azimuth: float) -> SkyView:
    """The sky between those of two suns of unlike height, a sun at that azimuth (radians). Light
    changes by ratios as the sun sinks."""
    if one is other:
        return one._replace(sun_azimuth=azimuth)
    air = one.air + (other.air - one.air) * share
    return one._replace(sky=one.sky + (other.sky - one.sky) * share, air=air, sun_azimuth=azimuth)


def held_view(air: AirNodes, observer: Observer, bodies: list[LayerBody], means: list[float],
              maker: Maker) -> Node[SkyView]:
    """Sky and air for an observer, from what is kept for two heights of the sun; as long as one
    of them is not, from the nearer alone."""
    elevation = observer.sun_elevation_true
    step = _step(elevation)
    low = step * math.floor(elevation / step)
    share = (elevation - low) / step
    far = HAND.far(observer.far_m)

    def kept(height: float) -> Node[SkyView]:
        place = Place(height, height, 0.0)
        return air.view(observer._replace(sun_elevation_true=height, sun_azimuth=0.0, far_m=far),
                        shade_of(bodies, means, place, HAND).by_height)

    one, other = kept(low), kept(low + step)
    if not maker.holds(one, other):
        one = other = one if share < 0.5 else other
    return view_under(one=one, other=other, share=share, azimuth=observer.sun_azimuth)
