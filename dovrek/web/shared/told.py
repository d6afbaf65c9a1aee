"""A document, or a part of it, under what it says: what was worked out of one that says the same is
found again (`functools.lru_cache` tells its arguments apart by equality)."""

from __future__ import annotations

from collections.abc import Collection
from typing import Generic, TypeVar

from pydantic import BaseModel

Model = TypeVar("Model", bound=BaseModel)


class Told(Generic[Model]):
    """A model that is equal to others of its type which say the same; of `parts` alone, if the
    others do not matter."""

    def __init__(self, model: Model, parts: Collection[str] = ()) -> None:
        self.model = model
        self.said = model.model_dump_json(include=set(parts) or None)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Told) and (type(self.model), self.said) == (
            type(other.model), other.said)

    def __hash__(self) -> int:
        return hash(self.said)
