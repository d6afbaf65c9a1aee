"""What a window looks at, and the pictures it has been sent."""

from __future__ import annotations

import io
import math
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.geometry.views import OFFERED, picture
from dovrek.core.photo.likeness import horizon_of
from dovrek.core.picture.render import Metered
from dovrek.core.picture.studio import EXTENT_KM, EXTENT_LIMITS_KM, Wish
from dovrek.sky.advisories import Seen
from dovrek.sky.document import Sky

BURNT_FROM = 3.3  # stops over middle grey: from there on the curve is white
UNSEEN = -1e9  # when a look was asked for that no window has asked for
PLAN_ASPECT = 1.5  # of a plan on the screen
PICTURE = picture.VIEW.name


class Look(NamedTuple):
    """One view of a sky: through the lens, all around, or from above over an extent."""

    view: str = PICTURE
    extent_km: float = EXTENT_KM
    alone: str = ""  # id of the only layer shown

    @staticmethod
    def of(view: str, extent_km: float, alone: str = "") -> Look:
        """A look as asked for by a window; what is not known becomes the picture."""
        view = view if view in OFFERED else PICTURE
        low, high = EXTENT_LIMITS_KM
        if not OFFERED[view].from_above or not math.isfinite(extent_km):
            return Look(view, EXTENT_KM, alone[:40])
        return Look(view, min(max(extent_km, low), high), alone[:40])

    def seen(self, sky: Sky) -> Sky:
        """The sky as this look shows it: one layer alone, if it is there."""
        if all(x.id != self.alone for x in sky.layers):
            return sky
        return sky.model_copy(update={"layers": [
            x.model_copy(update={"visible": x.id == self.alone}) for x in sky.layers]})

    def aspect(self, sky: Sky) -> float:
        return PLAN_ASPECT if self.from_above else OFFERED[self.view].aspect(sky.camera)

    @property
    def from_above(self) -> bool:
        """A map, which has no directions."""
        return OFFERED[self.view].from_above

    def wish(self, sky: Sky, width: int, quality: str) -> Wish:
        """A wish for about `width` × `width`·9/16 pixels in the view's own shape."""
        w, h = size_for(self.aspect(sky), width)
        return Wish(w, h, quality, self.view, extent_km=self.extent_km)


@dataclass(frozen=True)
class Shown:
    """One picture sent to windows."""

    serial: int
    revision: int
    quality: str
    width: int
    height: int
    image: bytes  # as a browser reads it
    ev: float
    kelvins: float
    seconds: float  # since the change it shows

    @property
    def mimetype(self) -> str:
        return "image/bmp" if self.image.startswith(b"BM") else "image/png"

    def data(self) -> dict[str, Any]:
        """What a window writes beside the picture."""
        return {"serial": self.serial, "quality": self.quality, "width": self.width,
                "height": self.height, "ev": round(self.ev, 1), "kelvins": round(self.kelvins),
                "seconds": round(self.seconds, 3), "revision": self.revision}


class Turn(NamedTuple):
    """A state of a sky that a session was turned to: which, its revision, when."""

    number: int
    revision: int
    asked: float


@dataclass
class Session:
    """One look at one sky, and how far its picture is."""

    sky: Sky
    revision: int
    asked: float
    look: Look
    polled: float = field(default_factory=time.monotonic)
    turn: int = 0  # counts the states it was turned to: values of one drag share a revision
    shown_turn: int = -1  # of the picture shown last
    serial: int = 0
    shown: list[Shown] = field(default_factory=list)
    light: NDArray[np.float32] | None = None
    light_of: str = ""
    light_quality: str = ""
    metered: Metered | None = None  # automatic exposure and white balance of that light
    samples: int = 0
    progress: float = 0.0
    stage: str = "waiting"
    fault: str = ""
    done: bool = False
    seen: Seen | None = None  # what the finished picture tells
    # oktas in it by the ratio of red to blue from which a pixel is cloud
    cover_at: Callable[[float], float | None] | None = None

    @property
    def unseen(self) -> bool:
        """Whether no window has asked for it."""
        return self.polled == UNSEEN

    @property
    def answered(self) -> bool:
        """Whether a picture of the sky as it stands has been shown."""
        return self.shown_turn == self.turn

    def state(self) -> Turn:
        return Turn(self.turn, self.revision, self.asked)


def size_for(aspect: float, width: int) -> tuple[int, int]:
    """A frame of about width × width·9/16 pixels in an aspect."""
    area = width * width * 9 / 16
    w = int(round((area * aspect) ** 0.5 / 2) * 2)
    return max(w, 32), max(int(round(w / aspect)), 32)


def horizon_share(sky: Sky) -> float:
    """Where the sky ends in the picture, as a share of its height from the top."""
    return float(np.clip(horizon_of(sky.camera.pitch_deg, sky.camera.fov_v_rad), 0.02, 1.0))


def light_key(sky: Sky) -> str:
    """What the light of a picture depends on: everything but name and film."""
    return sky.model_dump_json(exclude={"film", "name"})


def png_of(light: NDArray[np.float32], metered: Metered,
           run: Any = lambda f, n: f(0, n)) -> bytes:
    """Light developed by the film, as a PNG."""
    return encoded(develop(light, *metered, run=run))


def encoded(pixels: NDArray[Any]) -> bytes:
    """Pixels as a PNG, quickly."""
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG", compress_level=1)
    return buffer.getvalue()


def bitmap_of(light: NDArray[np.float32], metered: Metered) -> bytes:
    """Light developed by the film, as a plain bitmap: packing a small picture would take as long
    as developing it does."""
    buffer = io.BytesIO()
    Image.fromarray(develop(light, *metered)).save(buffer, "BMP")
    return buffer.getvalue()
