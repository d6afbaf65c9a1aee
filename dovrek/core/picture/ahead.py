"""Compiling ahead: on a new machine a second process compiles the march, of all kernels the
longest, and what makes a picture of its rays, while the first one compiles what prepares its scene.
Both keep what they have compiled in one folder."""

from __future__ import annotations

import math
import subprocess
import sys
import time

import numpy as np

from dovrek.core.air.sky_view import AIR_ABOVE, AIR_AZIMUTHS, AIR_BELOW, AIR_SLICES, SkyView
from dovrek.core.clouds.phase import PHASES, beam_tables
from dovrek.core.clouds.record import INSTANCE, LAYER, Field
from dovrek.core.compile.kernels import FOLDER
from dovrek.core.geometry.lens import picture_lens
from dovrek.core.land.meeting import no_land
from dovrek.core.land.tones import no_tones
from dovrek.core.land.world import no_world
from dovrek.core.picture.calming import calm
from dovrek.core.picture.render import NO_PASSES
from dovrek.core.picture.sparing import bridge, find_horizon
from dovrek.core.transport.march import march_pixels
from dovrek.core.transport.sample import OUT
from dovrek.core.transport.scene import GROUND, SUN, Marching, Scene, grain
from dovrek.sky.document import Camera

DONE = FOLDER / "march-compiled"
KERNELS = 215  # that a first picture of heaps and veils has compiled
NEWS_S = 0.1


def nothing_scene() -> Scene:
    """A scene of nothing, of the types that every scene has."""
    wide, f8 = (AIR_BELOW + AIR_ABOVE, AIR_AZIMUTHS, AIR_SLICES + 1, 9), np.float64
    return Scene(
        field=Field(np.zeros(1, LAYER), np.zeros(8, np.uint8), np.zeros(1, np.float32),
                    np.zeros(1, INSTANCE), np.zeros(1, np.int32)),
        beam=beam_tables(),
        clear=SkyView(-0.1, 0.5 * math.pi, 0.0, np.zeros((48, 48, 6), np.float32),
                      np.zeros(wide, np.float32), AIR_BELOW, 1e5, False, 6.37e6, 2.0),
        light=np.zeros(8, np.float32), sunlight=np.ones((41, 49, 3), f8),
        ambient=np.ones((1, 2, 3), f8), below=np.ones((1, 2, 2), np.float32),
        once_share=np.ones(1, f8), ground=np.zeros(1, GROUND)[0], sun=np.zeros(1, SUN)[0],
        land=no_land(), land_heights=np.zeros((1, 1), np.float32),
        land_peaks=np.zeros(1, np.float32), land_sky=np.zeros((1, 1), np.float32),
        land_tones=no_tones(), world=no_world(), glow=np.zeros(3, f8),
        lobes=np.array([p.flat() for p in PHASES]), grain=grain(), radius=6.37e6, height=2.0,
        shadow_rays=False, day=np.ones((49, 4, 3), f8))


def compile_march() -> None:
    """Compile the march by a tile of no pixel, then what looks for the horizon, bridges and calms,
    and note that it is done."""
    scene, lens, none = nothing_scene(), picture_lens(Camera()), np.zeros((1, 1), np.uint8)
    light = np.zeros((1, 1, OUT), np.float32)
    march_pixels(scene, lens, Marching(2.0, 1.0, True, True, 1.0, True, True), 16, 9, 0, 0, none, 0,
                 np.zeros(1, np.uint8), light, NO_PASSES)
    find_horizon(scene, lens, 0.0, 16, 9, 0, 0, np.empty(2), np.empty(3),
                 np.empty((2, 2), np.uint8), none.copy())
    bridge(light, none, none, 0, 0.0, none.copy())
    calm(light)
    DONE.touch()


def compiled_share() -> float:
    """About how much is compiled of what a first picture needs, 0 … 1."""
    return min(sum(1 for _ in FOLDER.rglob("*.nbi")) / KERNELS, 1.0)


class Ahead:
    """The second process, while it is at work."""

    def __init__(self) -> None:
        self._process: subprocess.Popen[bytes] | None = None
        if not DONE.exists():
            self._process = subprocess.Popen([sys.executable, "-m", __name__],
                                             stdout=subprocess.DEVNULL)

    @property
    def at_work(self) -> bool:
        """Whether the march is being compiled: who needs it does well to wait."""
        return self._process is not None and self._process.poll() is None

    def wait(self) -> None:
        """Until it is done, whether or not it went well."""
        while self.at_work:
            time.sleep(NEWS_S)

    def end(self) -> None:
        if self._process is not None and self._process.poll() is None:
            self._process.terminate()
            self._process.wait(5)


if __name__ == "__main__":
    compile_march()
