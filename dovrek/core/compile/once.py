"""What numba need not do, or not twice, while it compiles the kernels.

All changes lean on numba's inside, at the release that is locked. Without them kernels come out
the same, later.
"""

from __future__ import annotations

import operator
from collections.abc import Iterator
from contextlib import contextmanager
from types import SimpleNamespace
from typing import Any

from numba.core import inline_closurecall, types
from numba.core.codegen import CPUCodeLibrary, JITCodeLibrary, JITCPUCodegen
from numba.core.inline_closurecall import InlineWorker
from numba.core.types.functions import BaseFunction
from numba.np import linalg

_PLAIN = (types.Number, types.Boolean, types.Array)
_PLAIN_ASIDE = (*_PLAIN, types.UniTuple, types.SliceType)  # indices
_OPERATORS = {bool, *(f for f in vars(operator).values() if callable(f))}

typed_anew = BaseFunction.get_call_type


def typed_once(function: Any, context: Any, given: Any, named: Any) -> Any:
    """The signature of a call. For each sum, comparison and look into an array numba tries anew
    all that it knows of them, lists and texts too; of numbers and arrays the answer stays."""
    if function.typing_key not in _OPERATORS or named or not (
            isinstance(given[0], _PLAIN) and all(isinstance(a, _PLAIN_ASIDE) for a in given[1:])):
        return typed_anew(function, context, given, named)
    known = vars(function).setdefault("_known", {})
    if given not in known:
        known[given] = typed_anew(function, context, given, named)
    return known[given]


def _only_laid_out(library: Any, module: Any) -> None:
    """Functions are optimised once their module is linked, and not before as well."""
    module.data_layout = library._codegen._data_layout


WAY_IN = "_ZN7cpython"  # how the names of ways in from Python begin (numba's mangling)
finished_at_once = CPUCodeLibrary._finalize_final_module
address_of = JITCodeLibrary.get_pointer_to_function
serialized = CPUCodeLibrary.serialize_using_object_code
environment_set = JITCPUCodegen.set_env
_waiting: dict[str, Any] = {}  # environments of functions that have no machine code


def _finished(library: Any) -> None:
    """A library made ready. Machine code is made of those that Python calls: an inner kernel is
    linked into what calls it before that, and its own would never run."""
    has_code = library._object_caching_enabled and library._compiled_object
    if has_code or any(f.name.startswith(WAY_IN) for f in library.get_defined_functions()):
        _coded(library)
        return
    library._finalize_dynamic_globals()
    library._verify_declare_only_symbols()
    library._finalized = library._for_linking = True


def _coded(library: Any) -> None:
    """Machine code is made, and its functions told the environments that waited for it."""
    library._for_linking = False
    finished_at_once(library)
    for held in library._final_module.global_variables:
        if held.name in _waiting:
            environment_set(library._codegen, held.name, _waiting[held.name])


def _address(library: Any, name: str) -> int:
    """Where a function's machine code lies; 0 where there is none of that name."""
    library._ensure_finalized()
    if getattr(library, "_for_linking", False) and name in {
            f.name for f in library.get_defined_functions()}:
        _coded(library)
    return int(address_of(library, name))


def _serialized(library: Any) -> Any:
    """What is kept of a library: code and what callers link, or the latter alone."""
    library._ensure_finalized()
    if getattr(library, "_for_linking", False):
        return library.serialize_using_bitcode()
    return serialized(library)


def _environment(codegen: Any, name: str, env: Any) -> None:
    """A function told its environment, now or once its machine code is there."""
    if codegen._engine.is_symbol_defined(name):
        environment_set(codegen, name, env)
    else:
        _waiting[name] = env


@contextmanager
def _without_copies() -> Iterator[None]:
    """The inliner saves a function before it is changed, twice, for callers that use it again."""
    within = vars(inline_closurecall)
    held = within["copy"]
    within["copy"] = SimpleNamespace(deepcopy=lambda block: block)
    try:
        yield
    finally:
        within["copy"] = held


def _inlined(worker: Any, caller: Any, block: Any, at: int, function: Any,
             arg_typs: Any = None) -> Any:
    """A function, read anew, put into its caller."""
    read = worker.run_untyped_passes(function)
    with _without_copies():
        return worker.inline_ir(caller, block, at, read, function.__code__.co_freevars,
                                arg_typs=arg_typs)


def _no_blas() -> None:
    """Kernels write their sums out: none needs the library for matrices."""
    raise ImportError("kernels multiply no matrices")


def spare_compiling() -> None:
    """Let numba do these once, in this process, and load nothing that no kernel needs."""
    linalg.ensure_blas = _no_blas  # half of what the first call of a kernel takes
    BaseFunction.get_call_type = typed_once  # type: ignore[method-assign, assignment]
    CPUCodeLibrary._optimize_functions = _only_laid_out  # type: ignore[method-assign]
    CPUCodeLibrary._finalize_final_module = _finished  # type: ignore[method-assign]
    CPUCodeLibrary.serialize_using_object_code = _serialized  # type: ignore[method-assign]
    JITCodeLibrary.get_pointer_to_function = _address  # type: ignore[method-assign]
    JITCPUCodegen.set_env = _environment  # type: ignore[method-assign]
    InlineWorker.inline_function = _inlined  # type: ignore[method-assign]
