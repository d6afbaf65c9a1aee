"""What a window looks at, and the pictures it has been sent."""

from __future__ import annotations

import base64
import io
import math
import os
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from dovrek.core.colour.film import develop
from dovrek.core.geometry.views import OFFERED, picture
from dovrek.core.photo.likeness import horizon_of
from dovrek.core.picture.behind import laid_under, stands_behind
from dovrek.core.picture.render import Metered
from dovrek.core.picture.studio import EXTENT_KM, EXTENT_LIMITS_KM, Wish
from dovrek.sky.advisories import Seen
from dovrek.sky.clip import sky_at
from dovrek.sky.document import Sky
from dovrek.sky.motion import LONGEST_S

KEPT_PICTURES = 4  # of a session
LOOKED_AT_S = 5.0  # a look that no window has asked for so long is not followed
UNSEEN = -1e9  # when a look was asked for that no window has asked for
LEFT_S = 1.0  # after which a moment of the clip that no window asks for is left
HAND_S = 0.3  # between two changes of one hand, at most
RESTS_S = 0.15  # after a change, in which a moving hand will have made the next
LET_GO_S = 0.8  # after a change, in which a slow server will have taken the next one in
QUIET_S = 0.8  # between words to a window that has no picture of its change yet
PLAN_ASPECT = 1.5  # of a plan on the screen
PICTURE = picture.VIEW.name


class Look(NamedTuple):
    """One view of a sky: through the lens, all around, or from above over an extent."""

    view: str = PICTURE
    extent_km: float = EXTENT_KM
    alone: str = ""  # id of the only layer shown
    clip_s: float | None = None  # a second of the clip; the still unless set

    @staticmethod
    def of(view: str, extent_km: float, alone: str = "", clip_s: float | None = None) -> Look:
        """A look as asked for by a window; what is not known becomes the picture."""
        view = view if view in OFFERED else PICTURE
        low, high = EXTENT_LIMITS_KM
        if clip_s is not None:
            clip_s = round(min(max(clip_s, 0.0), LONGEST_S), 3) if math.isfinite(clip_s) else None
        if not OFFERED[view].from_above or not math.isfinite(extent_km):
            return Look(view, EXTENT_KM, alone[:40], clip_s)
        return Look(view, min(max(extent_km, low), high), alone[:40], clip_s)

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

    def wish(self, sky: Sky, width: int, quality: str, soon: bool = False) -> Wish:
        """A wish for about `width` × `width`·9/16 pixels in the view's own shape; `soon`: of a
        moment under what light is at hand."""
        w, h = size_for(self.aspect(sky), width)
        clip_s = None if self.clip_s is None else min(self.clip_s, sky.motion.length_s)
        return Wish(w, h, quality, self.view, extent_km=self.extent_km, clip_s=clip_s,
                    soon=soon and clip_s is not None)

    def told(self, sky: Sky) -> Sky:
        """The document as it stands at the second that is shown."""
        return sky if self.clip_s is None else sky_at(sky, self.clip_s)


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


class Known(NamedTuple):
    """What a window has of its look at a sky."""

    serial: int = 0  # of its picture
    progress: float = -1.0
    # Of the state its panels show; None while its own hand is at work and they stay as they are.
    revision: int | None = None
    turn: int | None = None


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
    gap_s: float = math.inf  # between the last two states it was turned to
    held: bool = False  # a hand holds what it changed last
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
    def watched(self) -> bool:
        """Whether a window asks for it: those that were closed do no longer."""
        return time.monotonic() - self.polled < LOOKED_AT_S

    def watch(self) -> bool:
        """A window asks for it; whether there was none for a while."""
        back, self.polled = not self.watched, time.monotonic()
        return back

    @property
    def wants(self) -> bool:
        """Whether there is work to do for it: what nobody watches is made a draft for the gallery
        at most."""
        kept = self.answered and self.light_quality in ("draft", "proof")
        return not self.done and (self.watched or self.look == Look() and not kept)

    @property
    def in_hand(self) -> bool:
        """Whether a hand drags: it holds what it changes, or states follow one another sooner than
        they could be looked at."""
        return self.held or self.gap_s < HAND_S

    @property
    def moves_until(self) -> float:
        """When a hand that drags it will have come to rest, unless it moves again."""
        return self.asked + RESTS_S if self.in_hand else 0.0

    @property
    def rests(self) -> bool:
        """Whether no hand is at it, nor has been for long enough that none comes back."""
        return not self.in_hand or self.asked + LET_GO_S <= time.perf_counter()

    @property
    def answered(self) -> bool:
        """Whether a picture of the sky as it stands has been shown."""
        return self.shown_turn == self.turn

    def state(self) -> Turn:
        return Turn(self.turn, self.revision, self.asked)

    def turn_to(self, sky: Sky, revision: int, asked: float, held: bool = False) -> bool:
        """Let it show a state of its sky; whether there is anything to do."""
        sky = self.look.seen(sky)
        if self.revision == revision and self.sky == sky and (self.done or self.shown):
            return False
        self.gap_s, self.held = asked - self.asked, held
        self.sky, self.revision, self.asked = sky, revision, asked
        self.turn += 1
        self.done, self.fault, self.progress, self.seen = False, "", 0.0, None
        return True

    def add(self, at: Turn, quality: str, metered: Metered, light: NDArray[np.float32],
            png: bytes) -> Shown:
        """One more picture of a state; of the older ones a few are kept."""
        self.serial += 1
        shown = Shown(self.serial, at.revision, quality, light.shape[1], light.shape[0], png,
                      metered.ev, metered.kelvins, time.perf_counter() - at.asked)
        self.shown_turn = at.number
        self.shown.append(shown)
        del self.shown[:-KEPT_PICTURES]
        return shown

    def held_for(self, sky: Sky) -> tuple[NDArray[np.float32], Metered] | None:
        """The light at hand, if another state (as this look has it) differs by film alone."""
        if self.light is None or self.metered is None or self.sky == sky or (
                self.light_of != light_key(sky)):
            return None
        return self.light, self.metered

    def has_news(self, known: Known) -> bool:
        """Whether to answer a window now. What only says that work goes on waits for the first
        picture of a change: every answer takes time from that picture."""
        if self.serial != known.serial or self.fault or self.done and known.progress < 1.0:
            return True
        if known.turn is not None and known.turn < self.turn and self.rests:
            return True
        if not self.answered and time.perf_counter() - self.asked < QUIET_S:
            return False
        return known.revision not in (None, self.revision) or (
            abs(self.progress - known.progress) > 0.04)

    def told(self, width: int, warm: bool) -> dict[str, Any]:
        """How far it is, as windows are told; pictures smaller than a full `width` come along."""
        last = self.shown[-1] if self.shown else None
        picture = last and last.data()
        if last and picture and last.width < 0.9 * width:
            picture["image"] = base64.b64encode(last.image).decode()
        return {"serial": self.serial, "revision": self.revision, "turn": self.turn,
                "rests": self.rests, "stage": self.stage,
                "progress": 1.0 if self.done else min(round(self.progress, 3), 0.999),
                "fault": self.fault, "warm": warm, "done": self.done, "picture": picture}


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


def whole(light: NDArray[np.float32], sky: Sky, look: Look,
          metered: Metered) -> NDArray[np.float32]:
    """Light of a look with the picture behind its sky laid under it."""
    if not stands_behind(sky, look.view):
        return light
    height, width = light.shape[:2]
    wish = replace(look.wish(sky, width, "draft"), width=width, height=height)
    return laid_under(light, look.told(sky), wish.lens(sky), (width, height), metered)


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


def named(quality: str) -> str:
    """A quality in the artist's words."""
    return "sketch" if quality in ("glance", "hand", "swift") else quality


def left_moments(sessions: dict[tuple[str, Look], Session], slug: str,
                 look: Look) -> list[tuple[str, Look]]:
    """Moments of a sky's clip that no window asks for any more; the lock is held."""
    return [key for key, session in sessions.items()
            if key[0] == slug and key[1] != look and key[1].clip_s is not None
            and time.monotonic() - session.polled > LEFT_S]


def be_nice() -> None:
    """Let the pages go first: render threads yield to the threads that answer."""
    try:
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), 8)
    except (AttributeError, OSError):
        return
