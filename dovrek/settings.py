"""The few settings, from the environment; every one is an option of the commands too."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

REFINED = ("sketch", "draft", "proof")


@dataclass(frozen=True)
class Settings:
    """Where things are kept and served."""

    home: Path
    host: str = "127.0.0.1"
    port: int = 8770
    scheduler: str = ""
    picture_width: int = 960  # of the live picture's proof, at 16:9; less on a slow machine
    refine: str = REFINED[-1]  # how far it is refined while a hand rests; less on a slow machine

    @property
    def database(self) -> Path:
        return self.home / "dovrek.sqlite"

    @property
    def prints(self) -> Path:
        return self.home / "prints"

    def make_folders(self) -> None:
        """Create what is missing. Raises OSError."""
        self.home.mkdir(parents=True, exist_ok=True)
        self.prints.mkdir(exist_ok=True)


def settings_from_environment() -> Settings:
    """Settings by DOVREK_HOME, DOVREK_HOST, DOVREK_PORT, DOVREK_SCHEDULER,
    DOVREK_PICTURE_WIDTH and DOVREK_REFINE. Raises ValueError naming the one that is wrong."""
    def whole(name: str, default: int, low: int, high: int) -> int:
        text = os.environ.get(name) or str(default)
        if not (text.isascii() and text.isdecimal() and len(text) < 7
                and low <= int(text) <= high):
            raise ValueError(f"{name}: '{text[:40]}' is refused; give a whole number from {low} to "
                             f"{high}, or unset it")
        return int(text)

    def one_of(name: str, words: tuple[str, ...], default: str) -> str:
        text = os.environ.get(name) or default
        if text not in words:
            raise ValueError(f"{name}: '{text[:40]}' is refused; give one of {', '.join(words)}, "
                             "or unset it")
        return text

    home = os.environ.get("DOVREK_HOME") or "~/.local/share/dovrek"
    return Settings(
        home=Path(home).expanduser(),
        host=os.environ.get("DOVREK_HOST") or "127.0.0.1",
        port=whole("DOVREK_PORT", 8770, 1, 65535),
        scheduler=os.environ.get("DOVREK_SCHEDULER", ""),
        picture_width=whole("DOVREK_PICTURE_WIDTH", 960, 320, 1920),
        refine=one_of("DOVREK_REFINE", REFINED, REFINED[-1]),
    )
