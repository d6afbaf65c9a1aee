"""One declaration a parameter: type, unit, limits, step, group and plain help.

Forms, the command line, the guide, the JSON Schema and the validation messages are
all read from these declarations; nothing about a parameter is written twice.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel, ConfigDict, Field
from pydantic.fields import FieldInfo

Scale = Literal["linear", "log"]
Kind = Literal["number", "integer", "choice", "switch", "text", "words", "curve", "colour",
               "map"]


class Group(BaseModel):
    """Base of every part of the document: unknown keys are refused, values are checked."""

    model_config = ConfigDict(
        extra="forbid", validate_assignment=True, allow_inf_nan=False, strict=False
    )


def number(
    default: float | None,
    *,
    low: float,
    high: float,
    step: float,
    unit: str,
    group: str,
    label: str,
    help: str,
    scale: Scale = "linear",
    genera: tuple[str, ...] = (),
    derived: str = "",
) -> Any:
    """Declare a numeric parameter.

    `low` and `high` are inclusive, `step` is one press of an arrow key, `genera` names the
    genera that show the control (empty: all), and `derived` says in words what a null
    default means (only for parameters that may be null).
    """
    return Field(
        default,
        ge=low,
        le=high,
        title=label,
        description=help,
        json_schema_extra={
            "unit": unit,
            "low": low,
            "high": high,
            "step": step,
            "group": group,
            "scale": scale,
            "genera": list(genera),
            "derived": derived,
        },
    )


def choice(default: Any, *, group: str, label: str, help: str, genera: tuple[str, ...] = (),
           kind: Kind | None = None) -> Any:
    """Declare a parameter that is a word, a switch, a text (its type gives the values) or, by
    `kind`, a colour."""
    return Field(
        default,
        title=label,
        description=help,
        json_schema_extra={"group": group, "genera": list(genera), "kind": kind},
    )


def words(*, group: str, label: str, help: str) -> Any:
    """Declare a parameter that is any number of words of its type."""
    return Field(
        default_factory=list, title=label, description=help, max_length=8,
        json_schema_extra={"group": group, "genera": [], "kind": "words"},
    )


def curve(default: list[tuple[float, float]], *, points: int, group: str, label: str,
          help: str) -> Any:
    """Declare a curve: up to `points` pairs (place, value), both 0 … 1, places rising."""
    return Field(
        default_factory=lambda: list(default), title=label, description=help, max_length=points,
        json_schema_extra={"group": group, "genera": [], "kind": "curve", "points": points},
    )


def colour_of(value: str) -> str:
    """A colour as # and six hexadecimal digits. Raises ValueError."""
    if not re.fullmatch(r"#[0-9a-fA-F]{6}", value):
        raise ValueError("not a colour; write it as # and six hexadecimal digits")
    return value.lower()


@dataclass(frozen=True)
class Parameter:
    """A declared parameter as forms and guides see it."""

    path: str
    label: str
    help: str
    group: str
    kind: Kind
    unit: str = ""
    low: float | None = None
    high: float | None = None
    step: float | None = None
    scale: Scale = "linear"
    genera: tuple[str, ...] = ()
    derived: str = ""
    options: tuple[str, ...] = ()
    optional: bool = False
    default: Any = None

    def shown_for(self, genus: str) -> bool:
        """Whether a layer of this genus has the control."""
        return not self.genera or genus in self.genera


def _kind(annotation: Any) -> tuple[Kind, bool]:
    arguments = [a for a in get_args(annotation) if a is not type(None)]
    optional = type(None) in get_args(annotation)
    inner = arguments[0] if optional and arguments else annotation
    if get_origin(inner) is Literal:
        return "choice", optional
    if inner is bool:
        return "switch", optional
    if inner is int:
        return "integer", optional
    if inner is float:
        return "number", optional
    return "text", optional


def _describe(path: str, field: FieldInfo) -> Parameter | None:
    extra = field.json_schema_extra
    if not isinstance(extra, dict) or "group" not in extra:
        return None
    kind, optional = _kind(field.annotation)
    kind = extra.get("kind") or kind  # type: ignore[assignment]
    options: tuple[str, ...] = ()
    if kind == "words":
        options = tuple(str(o) for o in get_args(get_args(field.annotation)[0]))
    if kind == "choice":
        inner = field.annotation
        if optional:
            inner = next(a for a in get_args(inner) if a is not type(None))
        options = tuple(str(o) for o in get_args(inner))
    known: dict[str, Any] = dict(extra)
    return Parameter(
        path=path,
        label=field.title or path,
        help=field.description or "",
        group=str(known["group"]),
        kind=kind,
        unit=str(known.get("unit", "")),
        low=known.get("low"),
        high=known.get("high"),
        step=known.get("step"),
        scale=known.get("scale", "linear"),
        genera=tuple(known.get("genera", ())),
        derived=str(known.get("derived", "")),
        options=options,
        optional=optional,
        default=None if field.is_required() else (
            field.get_default(call_default_factory=True) if kind in ("words", "curve")
            else field.get_default(call_default_factory=False)),
    )


def parameters_of(model: type[BaseModel], prefix: str = "") -> Iterator[Parameter]:
    """Yield every declared parameter of a model and its groups, in order of declaration."""
    yield from _declared(model, prefix)


@cache
def _declared(model: type[BaseModel], prefix: str) -> tuple[Parameter, ...]:
    return tuple(_found_in(model, prefix))


def _found_in(model: type[BaseModel], prefix: str) -> Iterator[Parameter]:
    for name, field in model.model_fields.items():
        path = f"{prefix}{name}"
        annotation = field.annotation
        if isinstance(annotation, type) and issubclass(annotation, BaseModel):
            yield from parameters_of(annotation, f"{path}.")
            continue
        described = _describe(path, field)
        if described is not None:
            yield described


def parameter_at(model: type[BaseModel], path: str) -> Parameter | None:
    """The declaration behind a dotted path such as ``cells.size_m``; None when there is none."""
    return next((p for p in parameters_of(model) if p.path == path), None)
