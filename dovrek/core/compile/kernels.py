"""What makes a function a kernel, and where compiled kernels are kept."""

from __future__ import annotations

import hashlib
import os
import shutil
from pathlib import Path
from typing import Any

import numba
from numba import njit, types
from numba.core.caching import UserProvidedCacheLocator
from numba.core.registry import CPUDispatcher

from dovrek.core.compile.once import spare_compiling

CACHES_KEPT = 3
NAMED = "kernels-"  # folders after the state of the sources
CORE = Path(__file__).absolute().parent.parent


def _compiled_folder() -> Path:
    """Where compiled kernels are kept: one folder for each state of these sources.

    Numba tells by a kernel's own file whether it must compile again, not by the files of the
    kernels it calls; a folder named after all of them can never hold a stale mixture.
    """
    digest = hashlib.blake2b(numba.__version__.encode(), digest_size=8)
    for source in sorted(CORE.rglob("*.py")):
        digest.update(source.read_bytes())
    cache = Path(os.environ.get("XDG_CACHE_HOME") or "~/.cache").expanduser() / "dovrek"
    folder = cache / f"{NAMED}{digest.hexdigest()}"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        os.utime(folder)
        older = sorted(cache.glob(f"{NAMED}*"), key=lambda p: -p.stat().st_mtime)
        for stale in older[CACHES_KEPT:]:
            shutil.rmtree(stale, ignore_errors=True)
    except OSError:
        return Path(__file__).parent / "__pycache__"
    return folder


class ByRoom(UserProvidedCacheLocator):
    """A kernel is kept by its place among these sources, wherever they lie: another copy of them
    on this machine finds it compiled."""

    @classmethod
    def get_suitable_cache_subpath(cls, py_file: str) -> str:
        path = Path(py_file).absolute()
        if path.is_relative_to(CORE):
            return "-".join(path.relative_to(CORE).parts)
        found: str = super().get_suitable_cache_subpath(py_file)
        return found


FOLDER = _compiled_folder()  # also for what kernels make once and for all
numba.config.CACHE_DIR = str(FOLDER)  # type: ignore[attr-defined]
numba.config.CACHE_LOCATOR_CLASSES = f"{__name__}.ByRoom"  # type: ignore[attr-defined]
spare_compiling()

# No `ninf`/`nnan`: a NaN must stay visible to the tests. Division by nought gives infinity instead
# of an exception, which every division would have to look out for; and no way in from C is
# compiled, which nothing here takes. Rewriting what is written as sums of whole arrays into loops
# takes a twentieth of all compiling; kernels write their loops themselves.
_OPTIONS: dict[str, Any] = {
    "cache": True, "nogil": True, "error_model": "numpy", "no_cfunc_wrapper": True,
    "no_rewrites": True,
    "fastmath": {"contract", "arcp", "nsz", "afn", "reassoc"},
}


class InnerKernel(CPUDispatcher):
    """A kernel without a way in from Python; called from there it would end the process."""

    def __call__(self, *given: Any, **named: Any) -> Any:
        raise TypeError(f"{self.py_func.__name__} is called by kernels alone; "
                        "make it a `kernel` to call it from Python")


def _one_version(compiled: Any) -> Any:
    """Let a number written out in a call be of its plain type; a type of its own would compile the
    kernel once more."""
    if not hasattr(compiled, "get_call_template"):
        return compiled  # compilation is switched off
    template = compiled.get_call_template

    def plain(given: Any, named: Any) -> Any:
        return template(tuple(types.unliteral(a) for a in given),
                        {name: types.unliteral(a) for name, a in named.items()})

    compiled.get_call_template = plain
    return compiled


def kernel(function: Any) -> Any:
    """Arithmetic on arrays it is given. Without numba's run time for new arrays a call counts no
    references, which takes two thirds off a call to the density."""
    return _one_version(njit(**{**_OPTIONS, "_nrt": False})(function))


def inner(function: Any) -> Any:
    """A kernel that only kernels call: what unpacks arguments from Python is not compiled."""
    options = {**_OPTIONS, "_nrt": False, "no_cpython_wrapper": True}
    compiled = _one_version(njit(**options)(function))
    if isinstance(compiled, CPUDispatcher):
        compiled.__class__ = InnerKernel
    return compiled


def part(function: Any) -> Any:
    """Lines of one kernel that are written apart: they become part of what calls them before it is
    compiled, where an `inner` one would be optimised once more with all that it calls."""
    options = {**_OPTIONS, "_nrt": False, "no_cpython_wrapper": True, "inline": "always"}
    compiled = njit(**options)(function)
    if isinstance(compiled, CPUDispatcher):
        compiled.__class__ = InnerKernel
    return compiled


def solver(function: Any) -> Any:
    """Arithmetic that needs scratch arrays of its own."""
    return _one_version(njit(**_OPTIONS)(function))


def plain(compiled: Any) -> Any:
    """What a kernel was before it was compiled: for a few numbers that are not worth compiling."""
    return getattr(compiled, "py_func", compiled)  # itself where compilation is switched off
