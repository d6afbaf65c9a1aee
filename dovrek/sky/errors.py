"""What can be wrong with a sky, in words an artist can act on."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Fault:
    """One thing wrong with a document: where, what was given, what is wrong, the mend."""

    path: str
    value: str
    text: str
    mend: str

    def __str__(self) -> str:
        return f"{self.path}: {self.value} {self.text}; {self.mend}"


class SkyError(ValueError):
    """A document that cannot be read; holds every fault found."""

    def __init__(self, faults: list[Fault]) -> None:
        self.faults = faults
        super().__init__(str(faults[0]) if faults else "the sky cannot be read")


class SkyConflict(ValueError):
    """A change that cannot be applied to the document it was meant for."""
