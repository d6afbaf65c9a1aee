"""Stages: functions from named inputs to a frozen result, whose inputs are their key.

A stage is called with plain values and with what other stages give. The call builds nothing: it
makes a node that knows its key. Nodes are built when asked for, with all that they stand on and
that is not at hand. A builder sees its inputs, threads to work on and the word to stop, and
nothing else; what it returns is never changed again.
"""

from __future__ import annotations

import hashlib
from array import array
from collections.abc import Callable, Iterable
from dataclasses import fields, is_dataclass
from functools import lru_cache
from typing import Any, Generic, NamedTuple, TypeVar

import numpy as np
from pydantic import BaseModel

from dovrek.core.run.workers import Cancel, Workers

T = TypeVar("T")
Inputs = dict[str, Any]
OUTLASTING: set[str] = set()  # names of the stages of which some results outlast their process
FLOATS = {float}
PLAIN = frozenset((float, int, str, bool, type(None)))  # whose words tell them apart


class Tools(NamedTuple):
    """What builders work with; no result depends on it."""

    workers: Workers
    cancel: Cancel


class Stage(Generic[T]):
    """A kind of result and how it is made of its inputs. `stage` makes one of a function."""

    def __init__(self, name: str, build: Callable[..., T], wide: bool = False, kept: bool = True,
                 outlasts: Callable[[Inputs], bool] | None = None) -> None:
        if build.__closure__ is not None:
            raise TypeError(f"stage {name}: its builder sees more than its inputs")
        self.name, self.build, self.wide, self.kept = name, build, wide, kept
        self.outlasts = outlasts or _none_of_them
        if outlasts is not None:
            OUTLASTING.add(name)
        self.__doc__ = build.__doc__

    def __call__(self, **inputs: Any) -> Node[T]:
        return Node(self, inputs)


def all_of_them(inputs: Inputs) -> bool:
    """That every result of a stage outlasts its process."""
    return True


def _none_of_them(inputs: Inputs) -> bool:
    return False


def stage(name: str, *, wide: bool = False, kept: bool = True,
          outlasts: Callable[[Inputs], bool] | None = None,
          ) -> Callable[[Callable[..., T]], Stage[T]]:
    """Make a stage of a function of tools and named inputs.

    `wide`: it spreads its work over the threads itself, so that it runs by itself and others run
    beside each other. Not `kept`: a larger result is made of it. `outlasts`: whether the result of
    given inputs outlasts the process, because it is small, takes long and comes again.
    """
    return lambda build: Stage(name, build, wide, kept, outlasts)


class Node(Generic[T]):
    """A stage with its inputs: the same key always stands for the same result."""

    __slots__ = ("inputs", "key", "of")

    def __init__(self, of: Stage[T], inputs: dict[str, Any]) -> None:
        self.of, self.inputs = of, inputs
        self.key = key_of(of.name, tuple(sorted(inputs.items())))

    @property
    def place(self) -> tuple[str, str]:
        """Where the cache keeps it."""
        return self.of.name, self.key


class Known(Node[T]):
    """A result that is at hand, under the key of all that it hangs on."""

    __slots__ = ("value",)

    def __init__(self, key: str, value: T) -> None:
        self.of, self.inputs, self.key, self.value = _KNOWN, {}, key, value


def _none(tools: Tools) -> Any:
    raise TypeError("what is known is not built")


_KNOWN: Stage[Any] = Stage("known", _none, kept=False)


def key_of(*values: Any) -> str:
    """A short hash of values: equal for equal values of equal types, and for nothing else."""
    parts: list[bytes] = []
    _feed(parts, values)
    return hashlib.blake2b(b"".join(parts), digest_size=12).hexdigest()


@lru_cache(256)
def _named(kind: np.dtype[Any]) -> str:
    """A type in words: of a record they take as long to write as a small picture's light."""
    return str(kind)


@lru_cache(256)
def _names_of(kind: type) -> tuple[str, ...] | None:
    """The fields of a dataclass."""
    return tuple(f.name for f in fields(kind)) if is_dataclass(kind) else None


def _feed(parts: list[bytes], value: Any) -> None:
    """Add a value's words; a picture under a hand asks for a thousand."""
    kind: Any = type(value)
    if kind in PLAIN:
        parts.append(f"{value!r};".encode())
    elif isinstance(value, Node):
        parts.append(f"node {value.key};".encode())
    elif isinstance(value, tuple | list):
        parts.append(f"{kind.__name__}{len(value)}(".encode())
        kinds = set(map(type, value))
        if kinds == FLOATS:  # at once: tables have hundreds
            parts += (b"floats ", array("d", value).tobytes())
        elif kinds <= PLAIN:
            parts.append(f"{tuple(value)!r};".encode())
        else:
            for each in value:
                _feed(parts, each)
    elif isinstance(value, np.ndarray | np.void):
        parts.append(f"array {_named(value.dtype)} {value.shape};".encode())
        parts.append(value.tobytes())
    elif (names := _names_of(kind)) is not None:
        parts.append(f"{kind.__name__}(".encode())
        _feed(parts, tuple(getattr(value, name) for name in names))
    elif isinstance(value, BaseModel):
        parts.append(f"{kind.__name__} {value!r};".encode())
    elif isinstance(value, str | int | float | bool | np.number):
        parts.append(f"{value!r};".encode())
    else:
        raise TypeError(f"{kind.__name__} can be no input of a stage: give its values")


def nodes_in(value: Any) -> Iterable[Node[Any]]:
    """The nodes among the inputs of one."""
    if isinstance(value, Node):
        yield value
    elif isinstance(value, tuple | list):
        for each in value:
            yield from nodes_in(each)
