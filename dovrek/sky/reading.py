"""Read a sky from JSON text or plain data, with every fault named in words."""

from __future__ import annotations

import difflib
import json
from typing import Any

from pydantic import BaseModel, ValidationError
from pydantic_core import PydanticSerializationError

from dovrek.sky.document import LAYER_LIMIT, Sky
from dovrek.sky.errors import Fault, SkyError
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import Parameter, parameter_at

BYTES_LIMIT = 2 * 1024 * 1024
SHOWN_CHARACTERS = 60


def _shown(value: Any) -> str:
    text = json.dumps(value, default=str, ensure_ascii=False).encode("utf-8", "replace").decode()
    return text if len(text) <= SHOWN_CHARACTERS else text[:SHOWN_CHARACTERS] + "…"


def path_text(location: tuple[int | str, ...]) -> str:
    """`("layers", 1, "base_m")` as ``layers[1].base_m``."""
    text = ""
    for part in location:
        text += f"[{part}]" if isinstance(part, int) else (f".{part}" if text else part)
    return text or "sky"


def declaration(location: tuple[int | str, ...]) -> Parameter | None:
    """The declaration behind a location in the document."""
    if len(location) > 2 and location[0] == "layers":
        return parameter_at(Layer, ".".join(str(p) for p in location[2:]))
    return parameter_at(Sky, ".".join(str(p) for p in location))


def _group_at(location: tuple[int | str, ...]) -> type[BaseModel] | None:
    model: type[BaseModel] = Sky
    for part in location:
        if isinstance(part, int):
            continue
        if part == "layers":
            model = Layer
            continue
        field = model.model_fields.get(part)
        annotation = field.annotation if field else None
        if not (isinstance(annotation, type) and issubclass(annotation, BaseModel)):
            return None
        model = annotation
    return model


def _fault(error: Any) -> Fault:
    location = tuple(error["loc"])
    path, kind, given = path_text(location), error["type"], _shown(error.get("input"))
    known = declaration(location)
    span = f"{known.low:g} to {known.high:g} {known.unit}".strip() if known and (
        known.low is not None and known.high is not None) else ""
    if kind == "extra_forbidden":
        group = _group_at(location[:-1])
        names = list(group.model_fields) if group else []
        near = difflib.get_close_matches(str(location[-1]), names, n=1)
        mend = f"did you mean {near[0]}?" if near else (
            f"remove it; known here: {', '.join(names)}" if names else "remove it")
        return Fault(path, given, "is an unknown key", mend)
    if kind in ("greater_than_equal", "less_than_equal"):
        return Fault(path, given, f"is outside {span}", f"give a value from {span}")
    if kind == "finite_number":
        return Fault(path, given, "is not a finite number", f"give a value from {span}")
    if kind == "literal_error":
        allowed = ", ".join(known.options) if known and known.options else str(
            error.get("ctx", {}).get("expected", ""))
        return Fault(path, given, "is not one of the known values", f"use one of: {allowed}")
    if kind == "too_long" and location == ("layers",):
        return Fault(path, f"{error['ctx']['actual_length']} layers", "are too many",
                     f"a sky holds at most {LAYER_LIMIT} layers; remove some")
    if kind == "value_error":
        text = str(error["ctx"]["error"])
        what, _, mend = text.partition("; ")
        return Fault(path, given, f"is refused: {what}", mend or "correct it")
    if kind in ("float_type", "float_parsing", "int_type", "int_parsing", "int_from_float"):
        whole = "a whole number" if kind.startswith("int") else "a number"
        wanted = f"give {whole} from {span}" if span else f"give {whole}"
        return Fault(path, given, f"is not {whole}", wanted)
    if kind in ("model_type", "dict_type", "model_attributes_type"):
        return Fault(path, given, "is not a group of values", "write it as {…} with named values")
    if kind == "list_type":
        return Fault(path, given, "is not a list", "write it as […]")
    return Fault(path, given, f"is refused: {error['msg']}", "correct it")


def sky_from_data(given: Any) -> Sky:
    """A validated sky from plain data. Raises SkyError with all faults."""
    if not isinstance(given, dict):
        raise SkyError([Fault("sky", _shown(given), "is not a sky document",
                              'start with {"dovrek": 1}')])
    if "dovrek" not in given:
        raise SkyError([Fault("dovrek", "(missing)", "marks the format and is not there",
                              'add "dovrek": 1 at the top')])
    if given["dovrek"] != 1 or isinstance(given["dovrek"], bool):
        raise SkyError([Fault("dovrek", _shown(given["dovrek"]), "is not a known format version",
                              "this release reads version 1")])
    try:
        return Sky.model_validate(given)
    except ValidationError as error:
        faults = [_fault(e) for e in error.errors(include_url=False)]
        raise SkyError(faults) from None
    except RecursionError:
        raise SkyError([Fault("sky", "the file", "is nested too deeply",
                              "export the sky again")]) from None


def _refuse_constant(name: str) -> Any:
    raise SkyError([Fault("sky", name, "is not a finite number",
                          "write plain numbers; JSON has no NaN or Infinity")])


def _unique_keys(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key, value in pairs:
        if key in found:
            raise SkyError([Fault(key[:SHOWN_CHARACTERS], _shown(value),
                                  "stands twice in the same group", "keep one of the two")])
        found[key] = value
    return found


def data_from_text(text: str | bytes, thing: str = "sky") -> Any:
    """Plain data from JSON text of at most 2 MB; `thing` is what the faults call it.

    Raises SkyError.
    """
    again = f"export the {thing} again"
    if len(text if isinstance(text, bytes) else text.encode("utf-8", "replace")) > BYTES_LIMIT:
        raise SkyError([Fault(thing, f"{len(text) / 1e6:.1f} MB", f"is too large for a {thing}",
                              f"a {thing} file is at most {BYTES_LIMIT // 1024 // 1024} MB")])
    try:
        decoded = text.decode("utf-8-sig") if isinstance(text, bytes) else text
        return json.loads(decoded, parse_constant=_refuse_constant,
                          object_pairs_hook=_unique_keys)
    except SkyError:
        raise
    except UnicodeDecodeError:
        raise SkyError([Fault(thing, "the file", "is not UTF-8 text",
                              f"choose a {thing} exported as JSON")]) from None
    except RecursionError:
        raise SkyError([Fault(thing, "the file", "is nested too deeply", again)]) from None
    except ValueError as error:
        line = getattr(error, "lineno", None)
        where = f"line {line}" if line else "the file"
        said = getattr(error, "msg", error)
        raise SkyError([Fault(thing, where, f"is not readable JSON ({said})",
                              f"{again} or mend that line")]) from None


def sky_from_text(text: str | bytes) -> Sky:
    """A validated sky from JSON text of at most 2 MB. Raises SkyError."""
    return sky_from_data(data_from_text(text))


def sky_to_data(sky: Sky) -> dict[str, Any]:
    """The whole document as plain data, every key present."""
    return sky.model_dump(mode="json")


def sky_to_text(sky: Sky) -> str:
    """The whole document as indented JSON text, every key present."""
    try:
        return sky.model_dump_json(indent=1)
    except PydanticSerializationError:  # half a character in a name: it is a text nevertheless
        return json.dumps(sky.model_dump(mode="json"), indent=1, ensure_ascii=False)


def text_to_keep(sky: Sky) -> str:
    """The document's text for keeping: the gate that every way into a store or a file passes.

    What is kept can be read again, here and from its export. Raises SkyError for a sky whose text
    would be refused.
    """
    text = sky_to_text(sky)
    try:
        size = len(text.encode())
    except UnicodeEncodeError:
        raise SkyError([Fault("sky", "its text", "holds characters that are none",
                              "type its names anew")]) from None
    if size > BYTES_LIMIT:
        raise SkyError([Fault("sky", f"{size / 1e6:.1f} MB", "is too large to keep",
                              f"a sky takes at most {BYTES_LIMIT // 1024 // 1024} MB with the "
                              "pictures of its cover maps; make those smaller, or remove one")])
    return text
