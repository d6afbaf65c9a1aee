"""Kernels: small arithmetic, one compiled version of each, folders of compiled code."""

from __future__ import annotations

import ast
import math
import operator
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from numba import float64, types
from numba.core.registry import cpu_target

import dovrek
from dovrek.core.compile import choosing, kernels
from dovrek.core.compile.arithmetic import clamp, henyey_greenstein, smoothstep
from dovrek.core.compile.kernels import kernel, solver
from dovrek.core.compile.once import typed_anew, typed_once

JIT = hasattr(smoothstep, "signatures")


def test_smoothstep_and_phase_function() -> None:
    assert [smoothstep(2.0, 4.0, x) for x in (1.0, 2.0, 3.0, 4.0, 9.0)] == [0.0, 0.0, 0.5, 1.0, 1.0]
    cosines = np.linspace(-1.0, 1.0, 20001)
    for g in (-0.4, 0.0, 0.85):
        phase = np.array([henyey_greenstein(c, g) for c in cosines])
        assert 2.0 * math.pi * np.trapezoid(phase, cosines) == pytest.approx(1.0, abs=1e-3)
        assert 2.0 * math.pi * np.trapezoid(phase * cosines, cosines) == pytest.approx(g, abs=1e-3)


@pytest.mark.skipif(not JIT, reason="compilation is switched off")
@pytest.mark.parametrize("made", [kernel, solver])
def test_numbers_written_out_share_one_version(made: Any) -> None:
    """A call with 3, one with a variable and one by name compile the inner function once."""
    @made
    def scaled(a: Any, scale: Any) -> Any:
        return a * scale

    @made
    def outer(n: Any) -> Any:
        return scaled(3, 2.0) + scaled(n, 2.0) + scaled(7, scale=2.0)

    assert outer(5) == 30.0
    assert scaled.signatures == [(types.int64, float64)]


@pytest.mark.skipif(not JIT, reason="compilation is switched off")
def test_signatures_are_remembered_as_numba_finds_them() -> None:
    """Operators of numbers and arrays: the same answer, found once; of texts it is left alone."""
    context = cpu_target.typing_context
    context.refresh()
    row, place = types.Array(types.float32, 2, "C"), types.UniTuple(types.int64, 2)
    calls = [(operator.mul, (types.int64, float64)), (operator.lt, (types.float32, types.uint8)),
             (operator.getitem, (row, place)), (operator.setitem, (row, place, float64)),
             (operator.truediv, (types.int64, types.IntegerLiteral(3))), (bool, (types.int64,)),
             (operator.add, (types.unicode_type, types.unicode_type))]
    for function, given in calls:
        known = context.resolve_value_type(function)
        once, twice = (typed_once(known, context, given, {}) for _ in range(2))
        assert once == typed_anew(known, context, given, {})
        assert (once is twice) == (given in vars(known).get("_known", {}))
    assert given not in vars(known).get("_known", {})  # texts


@pytest.mark.skipif(not JIT, reason="compilation is switched off")
def test_an_inner_kernel_is_refused_to_python() -> None:
    """It has no way in: without the refusal such a call ends the process."""
    @kernel
    def held(x: Any) -> Any:
        return clamp(x, -1.0, 2.0)

    assert [held(x) for x in (-3.0, -1.0, 0.5, 7.0)] == [-1.0, -1.0, 0.5, 2.0]
    assert math.isnan(held(math.nan))
    with pytest.raises(TypeError, match="clamp is called by kernels alone"):
        clamp(0.5, 0.0, 1.0)


@pytest.mark.skipif(not JIT, reason="compilation is switched off")
def test_machine_code_is_made_of_what_python_calls() -> None:
    """An inner kernel is linked into its callers; it has code of its own once that is asked for,
    and is kept as what callers link."""
    @kernels.inner
    def doubled(x: Any) -> Any:
        return 2.0 * x

    @kernel
    def outer(x: Any) -> Any:
        return doubled(x) + 1.0

    assert outer(3.0) == 7.0
    (within,), (called,) = doubled.overloads.values(), outer.overloads.values()
    name, kind, kept = within.library.serialize_using_object_code()
    assert kind == "bitcode" and called.library.serialize_using_object_code()[1] == "object"
    again = within.library._codegen.unserialize_library((name, kind, kept))
    function = within.fndesc.llvm_func_name
    assert again._for_linking and again.get_pointer_to_function("none of its own") == 0
    assert again._for_linking and again.get_pointer_to_function(function) != 0
    assert not again._for_linking


@pytest.mark.skipif(not JIT, reason="compilation is switched off")
def test_a_part_is_put_into_each_caller_anew() -> None:
    @kernels.part
    def added(total: Any, n: Any) -> Any:
        for k in range(n):
            if k % 2 == 0:
                total += k
        return total

    @kernel
    def twice(n: Any) -> Any:
        return added(added(0, n), 3) + added(100, n)

    @kernel
    def once(n: Any) -> Any:
        return added(0, n)

    assert twice(5) == (0 + 2 + 4) + (0 + 2) + 100 + (0 + 2 + 4) and once(7) == 12


def _decorated(node: ast.stmt, names: set[str]) -> bool:
    return isinstance(node, ast.FunctionDef) and any(
        isinstance(d, ast.Name) and d.id in names for d in node.decorator_list)


def test_inner_kernels_are_named_by_kernels_alone() -> None:
    sources = Path(kernels.__file__).parents[1].rglob("*.py")
    trees = [ast.parse(source.read_text()) for source in sources]
    inside = {node.name for tree in trees for node in tree.body
              if isinstance(node, ast.FunctionDef) and _decorated(node, {"inner", "part"})}
    assert len(inside) > 50
    for tree in trees:
        for node in tree.body:
            if _decorated(node, {"inner", "part", "kernel", "solver"}):
                continue
            called = {part.func.id for part in ast.walk(node) if isinstance(part, ast.Call)
                      and isinstance(part.func, ast.Name)}
            assert not called & inside, ast.unparse(node)[:200]


def test_old_folders_of_compiled_code_go(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """The latest are kept, and what is not ours stays."""
    home = tmp_path / "dovrek"
    for age in range(6):
        old = home / f"kernels-{age:016x}"
        old.mkdir(parents=True)
        os.utime(old, (1e9 - age, 1e9 - age))
    (home / "store").mkdir()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    folder = kernels._compiled_folder()
    assert folder.is_dir() and folder == kernels._compiled_folder()
    newest = {f"kernels-{age:016x}" for age in (0, 1)}
    assert {p.name for p in home.iterdir()} == newest | {folder.name, "store"}


@kernels.inner
def _first(a, b):
    return a + b


@kernels.inner
def _second(a, b):
    return a * b


def test_a_kernel_is_chosen_by_its_place(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """By number, and the last for all others; a folder that cannot be written is no hindrance."""
    monkeypatch.setattr(choosing, "FOLDER", tmp_path)
    pick = choosing.chosen("tried", [_first, _second], "a, b")

    @kernels.kernel
    def picked(which, a, b):
        return pick(which, a, b)

    assert [picked(which, 3.0, 4.0) for which in (0, 1, 7)] == [7.0, 12.0, 12.0]
    written = (tmp_path / "tried.py").stat().st_mtime_ns
    choosing.chosen("tried", [_first, _second], "a, b")
    assert (tmp_path / "tried.py").stat().st_mtime_ns == written  # what is compiled stays good
    monkeypatch.setattr(choosing, "FOLDER", tmp_path / "tried.py")  # a file is no folder
    assert choosing.chosen("elsewhere", [_first, _second], "a, b") is not None


def test_a_first_kernel_loads_no_library_for_matrices() -> None:
    """It takes half of a first call's time, in every process."""
    said = subprocess.run([sys.executable, "-c", (
        "import sys; from dovrek.core.compile.noise import wisp_lost; "
        "print(wisp_lost(2), 'scipy.linalg' in sys.modules)")],
        capture_output=True, text=True, check=True).stdout
    assert said.split() == ["0.011", "False"]


def test_a_copy_of_the_sources_finds_kernels_compiled(tmp_path: Path) -> None:
    """A kernel is kept by its place among the sources, not by where these lie."""
    code = ("import numpy as np; from dovrek.core.picture import calming;"
            "calming.calm(np.ones((8, 8, 5), np.float32)); found = calming.spread_grain.stats;"
            "print(calming.__file__, sum(found.cache_hits.values()),"
            " sum(found.cache_misses.values()))")

    def ran(root: Path) -> list[str]:
        said = subprocess.check_output([sys.executable, "-c", code], text=True, cwd=root,
                                       env=os.environ | {"PYTHONPATH": str(root)})
        return said.split()

    here = Path(dovrek.__file__).parent
    ran(here.parent)  # it is compiled now
    shutil.copytree(here, tmp_path / "dovrek", ignore=shutil.ignore_patterns(
        "static", "__pycache__", "*.html", "demo_skies"))
    file, hits, misses = ran(tmp_path)
    assert Path(file).is_relative_to(tmp_path) and (hits, misses) == ("1", "0")
