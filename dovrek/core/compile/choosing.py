"""A kernel that picks one of several: numba can look none up in a table, so that a registry's
branches are written out beside the compiled kernels, once for each state of these sources."""

from __future__ import annotations

import importlib.util
import os
import sys
import tempfile
from pathlib import Path
from typing import Any

from dovrek.core.compile.kernels import FOLDER, plain


def chosen(name: str, kernels: list[Any], arguments: str) -> Any:
    """A kernel of (which, *arguments) that calls kernel number `which`, or the last one.

    `name` is the module it is written to; all kernels take and return the same types.
    """
    imports, branches = [], []
    for number, each in enumerate(kernels):
        function = plain(each)
        imports.append(f"from {function.__module__} import {function.__name__} as of_{number}")
        condition = f"if which == {number}:" if number < len(kernels) - 1 else ""
        branches.append(f"    {condition}\n        return of_{number}({arguments})" if condition
                        else f"    return of_{number}({arguments})")
    text = "\n".join(["from dovrek.core.compile.kernels import inner", *imports, "", "", "@inner",
                      f"def pick(which, {arguments}):", *branches, ""])
    path = _written(FOLDER / f"{name}.py", text)
    module_name = f"dovrek_{name}"
    spec = importlib.util.spec_from_file_location(module_name, path)
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[module_name] = module
    spec.loader.exec_module(module)
    return module.pick


def _written(path: Path, text: str) -> Path:
    """A file that holds a text: this one, or where it cannot be written one of this process."""
    try:
        if not (path.exists() and path.read_text() == text):  # numba heeds when it was written
            part = path.with_suffix(f".{os.getpid()}")
            part.write_text(text)
            part.replace(path)
    except OSError:
        path = Path(tempfile.mkdtemp(prefix="dovrek-")) / path.name
        path.write_text(text)
    return path
