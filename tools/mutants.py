"""Break the program in one place at a time, and count how often the tests notice: `make mutants`.

Places are sampled over the code that matters (`AREAS`), so many of each. The suite runs once first, to learn which
tests come by which line; for each change those run, short ones first, until one fails. What no test noticed is listed.
What is not seen at every call, compiled loops and functions whose answers are kept, is judged by the tests that come by
whatever calls it; and tests that name a function judge it, too. Each change is made in a copy below ``build/mutants``.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import re
import shutil
import signal
import sys
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import asdict, dataclass
from importlib import import_module
from pathlib import Path
from typing import Any

import pytest
from coverage import Coverage, CoverageData

ROOT = Path(__file__).parents[1]
COPIES = ROOT / "build" / "mutants"
ENVIRONMENT = {"QT_QPA_PLATFORM": "offscreen", "OPENBLAS_NUM_THREADS": "1", "OPENCV_FOR_THREADS_NUM": "1"}
CORE = "src/gommage/core"
AREAS = {
    "follow": [f"{CORE}/follow"],
    "cover": [f"{CORE}/cover"],
    "fill": [f"{CORE}/fill"],
    "paint": [f"{CORE}/paint"],
    "match": [f"{CORE}/match"],
    "check": [f"{CORE}/check"],
    "edits": [f"{CORE}/document/edits"],
    "engine": [f"{CORE}/engine"],
    "window": ["src/gommage/app/session.py", "src/gommage/app/desk.py", "src/gommage/app/picture/views.py"],
}
"""By name: the files that are changed."""
LONGEST_S = 400.0
"""A change after which tests take longer has made them hang, which is noticed as well."""
MOST_S = 60.0
"""Of so many seconds of tests a change is judged by; what only longer ones would notice counts as not noticed."""
LIBRARIES = ("numpy", "scipy.ndimage", "scipy.sparse.csgraph", "scipy.spatial", "scipy.optimize", "cv2", "numba", "av",
             "OpenImageIO", "PyOpenColorIO", "msgspec", "PySide6.QtWidgets", "PySide6.QtTest")  # fmt: skip
"""Loaded once, before any change: each run of tests begins as a fork of that."""

SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.GtE, ast.LtE: ast.Gt, ast.Gt: ast.LtE, ast.GtE: ast.Lt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
}  # fmt: skip
SMALL = 1e-3
"""Smaller numbers keep something from being divided by nothing: twice as much does the same."""
NAMES = {"min": "max", "max": "min", "any": "all", "all": "any", "minimum": "maximum", "maximum": "minimum"}


@dataclass(frozen=True)
class Mutant:
    """One change: a stretch of a file's text, and what stands there instead."""

    area: str
    path: str
    first_line: int
    line: int
    begin: int
    end: int
    was: str
    now: str


def changed(node: ast.AST) -> ast.AST | None:
    """Return a node changed in its meaning; None if it is of no kind that is changed."""
    match node:
        case ast.Compare(ops=[one]) if type(one) in SWAPS:
            return ast.Compare(node.left, [SWAPS[type(one)]()], node.comparators)  # type: ignore[list-item]
        case ast.BoolOp():
            return ast.BoolOp(SWAPS[type(node.op)](), node.values)  # type: ignore[arg-type]
        case ast.BinOp() if type(node.op) in SWAPS:
            return ast.BinOp(node.left, SWAPS[type(node.op)](), node.right)  # type: ignore[arg-type]
        case ast.UnaryOp(op=ast.Not() | ast.USub()):
            return node.operand
        case ast.Constant(value=bool()):
            return ast.Constant(not node.value)
        case ast.Constant(value=float(small)) if 0 < small < SMALL:
            return None
        case ast.Constant(value=int() | float()):
            return ast.Constant(node.value + 1 if node.value in (0, 1) else node.value * 2)
        case ast.IfExp():
            return ast.IfExp(node.test, node.orelse, node.body)
        case ast.Call(func=ast.Name(id=name)) if name in NAMES:
            return ast.Call(ast.Name(NAMES[name]), node.args, node.keywords)
        case ast.Call(func=ast.Attribute(attr=name)) if name in NAMES:
            return ast.Call(ast.Attribute(node.func.value, NAMES[name]), node.args, node.keywords)  # type: ignore[attr-defined]
        case ast.Expr(value=ast.Call()) | ast.AugAssign():
            return ast.Pass()
    return None


def mutants_of(area: str, path: Path) -> Iterator[Mutant]:
    """Return all changes of a file; texts, annotations and defaults of sentences stay as they are."""
    text = path.read_text()
    starts = [0]
    for line in text.encode().splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    tree = ast.parse(text)
    functions = [one for one in ast.walk(tree) if isinstance(one, ast.FunctionDef)]
    first_lines = {id(node): own.lineno for one in functions for statement in one.body
                   for own in ast.walk(statement) if isinstance(own, ast.stmt) for node in ast.walk(own)}  # fmt: skip
    inside = [node for function in functions for one in function.body for node in ast.walk(one)]
    for node in {id(one): one for one in inside}.values():
        new = changed(node)
        if new is not None and isinstance(node, ast.expr | ast.stmt):
            begin = starts[node.lineno - 1] + node.col_offset
            end = starts[(node.end_lineno or node.lineno) - 1] + (node.end_col_offset or 0)
            now = ast.unparse(ast.fix_missing_locations(new))
            was = text.encode()[begin:end].decode()
            wrapped = f"({now})" if isinstance(node, ast.expr) else now
            first = first_lines[id(node)]
            yield Mutant(area, str(path.relative_to(ROOT)), first, node.lineno, begin, end, was, wrapped)


def files_of(area: str) -> list[Path]:
    """Return the files of an area."""
    return [one for name in AREAS[area] for one in ([ROOT / name] if name.endswith(".py")
                                                    else sorted((ROOT / name).rglob("*.py")))]  # fmt: skip


def sampled(count: int, seed: int, only: list[str]) -> list[Mutant]:
    """Return so many changes of each area, at random places of it."""
    out = []
    for area in only or AREAS:
        every = [one for path in files_of(area) for one in mutants_of(area, path)]
        out += random.Random(f"{seed} {area}").sample(every, min(count, len(every)))
    random.Random(seed).shuffle(out)
    return out


# -- which tests come by ------------------------------------------------------------------------------------


class Watched:
    """A plugin of pytest that notes for each line which tests come by it."""

    def __init__(self, *, goes_on: bool) -> None:
        self.coverage = Coverage(data_file=str(COPIES / "coverage"), source=[str(ROOT / "src")])
        if goes_on:
            self.coverage.load()
        self.coverage.start()

    @pytest.hookimpl(wrapper=True)  # type: ignore[untyped-decorator, unused-ignore]
    def pytest_runtest_protocol(self, item: pytest.Item) -> Iterator[None]:
        self.coverage.switch_context(item.nodeid)
        return (yield)

    def pytest_sessionfinish(self) -> None:
        self.coverage.stop()
        self.coverage.save()


def watch(paths: list[str]) -> None:
    """Run the suite in another process, or tests of some paths, and note what comes by where."""
    COPIES.mkdir(parents=True, exist_ok=True)
    child = os.fork()
    if not child:
        os.environ.update(ENVIRONMENT)
        os._exit(
            int(
                pytest.main(
                    ["-q", "-p", "no:cacheprovider", *(paths or ["tests"])], plugins=[Watched(goes_on=bool(paths))]
                )
            )
        )
    _, status = os.waitpid(child, 0)
    if os.waitstatus_to_exitcode(status):
        sys.exit("The tests fail as they are: there is nothing to judge changes by.")


@dataclass
class Tests:
    """Which tests come by which line of a file, and how many seconds each takes."""

    reached: dict[str, dict[int, set[str]]]
    seconds: dict[str, float]
    naming: dict[str, set[str]]
    """Tests by the names that stand in them."""

    @classmethod
    def known(cls) -> Tests:
        """Return what `watch` noted."""
        data = CoverageData(str(COPIES / "coverage"))
        data.read()
        reached = {}
        for file in data.measured_files():
            lines = data.contexts_by_lineno(file)
            reached[str(Path(file).relative_to(ROOT))] = {line: set(tests) - {""} for line, tests in lines.items()}
        measured = json.loads((ROOT / "tests" / "durations.json").read_text())
        seconds = {f"{file}::{name}": took for file, tests in measured.items() for name, took in tests.items()}
        naming: dict[str, set[str]] = {}
        for path in sorted((ROOT / "tests").rglob("test_*.py")):
            for one in ast.parse(path.read_text()).body:
                if isinstance(one, ast.FunctionDef) and one.name.startswith("test_"):
                    for name in {node.id for node in ast.walk(one) if isinstance(node, ast.Name)}:
                        naming.setdefault(name, set()).add(f"{path.relative_to(ROOT)}::{one.name}")
        return cls(reached, seconds, naming)

    def of(self, mutant: Mutant) -> list[str]:
        """Return the tests that a change is judged by, file by file, short ones first."""
        lines = self.reached.get(mutant.path, {})
        near = (lines[line] for line in range(mutant.line, mutant.first_line - 1, -1) if lines.get(line))
        tests = set(next(near, set()))  # a statement over several lines is noted at some of them
        names, is_seen = functions_around(ROOT / mutant.path, mutant.line)
        if not tests or not is_seen:
            tests |= self._by_callers(names)
        tests = tests.union(*(self.naming.get(name, set()) for name in names))
        by_file: dict[str, list[str]] = {}
        for test in sorted(tests):
            by_file.setdefault(test.partition("::")[0], []).append(test)
        out, total = list[str](), 0.0
        for file in sorted(by_file, key=lambda file: sum(map(self._took, by_file[file]))):
            for test in sorted(by_file[file], key=self._took):
                total += self._took(test)
                if total < MOST_S:
                    out.append(test)
        return out

    def _took(self, test: str) -> float:
        return self.seconds.get(test.partition("[")[0], 0.02)

    def _by_callers(self, names: list[str]) -> set[str]:
        """Return the tests that come by whatever calls one of some functions."""
        called = re.compile(rf"\b({'|'.join(names)})\(") if names else None
        out = set[str]()
        for path, lines in self.reached.items() if called else ():
            text = (ROOT / path).read_text().splitlines()
            for line, tests in lines.items():
                if tests and called.search(text[line - 1]):
                    out |= tests
        return out


def functions_around(path: Path, line: int) -> tuple[list[str], bool]:
    """Return the name of the function that a line is in, and whether it is seen at every call.

    If it is not, the names of those of the file's functions that lead to it as well.
    """
    functions = [one for one in ast.parse(path.read_text()).body if isinstance(one, ast.FunctionDef)]
    around = [one for one in functions if one.lineno <= line <= (one.end_lineno or line)]
    names = [one.name for one in around]
    if not any("cache" in ast.unparse(wrapper) for one in around for wrapper in one.decorator_list):
        return names, True
    for name in names:
        for one in functions:
            mentioned = {node.id for node in ast.walk(one) if isinstance(node, ast.Name)}
            if name in mentioned and one.name not in names:
                names.append(one.name)
    return names, False


# -- judging ------------------------------------------------------------------------------------------------


def is_noticed(mutant: Mutant, copy: Path, tests: list[str]) -> bool:
    """Make a change in a copy of the project, run tests, and take the change back."""
    if not tests:
        return False
    path = copy / mutant.path
    whole, stat = path.read_bytes(), path.stat()
    compiled = {one: one.read_bytes() for one in (path.parent / "__pycache__").glob(f"{path.stem}.*.nb?")}
    path.write_bytes(whole[: mutant.begin] + mutant.now.encode() + whole[mutant.end :])
    try:
        return fails(copy, tests)
    finally:
        path.write_bytes(whole)
        os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))
        for one in (path.parent / "__pycache__").glob(f"{path.stem}.*.nb?"):
            one.unlink()
        for one, content in compiled.items():
            one.write_bytes(content)


def fails(copy: Path, tests: list[str]) -> bool:
    """Return whether one of some tests fails, or hangs."""
    child = os.fork()
    if not child:
        os.setsid()
        os.chdir(copy)
        os.environ.update(ENVIRONMENT)
        sys.path[:0] = [str(copy / "src"), str(copy)]
        with open(os.devnull, "w") as nowhere:
            os.dup2(nowhere.fileno(), 1)
            os.dup2(nowhere.fileno(), 2)
        os._exit(int(pytest.main(["-x", "-q", "-p", "no:cacheprovider", "-p", "no:xdist", *tests])))
    end = time.monotonic() + LONGEST_S
    while True:
        ended, status = os.waitpid(child, os.WNOHANG)
        if ended:
            code = os.waitstatus_to_exitcode(status)
            if code in (pytest.ExitCode.USAGE_ERROR, pytest.ExitCode.NO_TESTS_COLLECTED):
                sys.exit(f"No such tests: {tests}")
            return code != 0
        if time.monotonic() > end:
            os.killpg(child, signal.SIGKILL)
            os.waitpid(child, 0)
            return True
        time.sleep(0.1)


def still_there(fields: dict[str, Any]) -> Mutant | None:
    """Return a change that was noted, where it is now; None if what it changed is not there any more."""
    known = Mutant(**fields)
    found = [one for one in mutants_of(known.area, ROOT / known.path) if (one.was, one.now) == (known.was, known.now)]
    return min(found, key=lambda one: abs(one.line - known.line), default=None)


def copied() -> Path:
    """Return a copy of the project to break."""
    copy = COPIES / "copy"
    shutil.rmtree(copy, ignore_errors=True)
    for name in ("src", "tests", "benchmarks", "docs", ".pytest_cache"):
        shutil.copytree(ROOT / name, copy / name, ignore=shutil.ignore_patterns("screenshots"))
    for name in ("pyproject.toml", "README.md", "CONTRIBUTING.md", "Makefile"):
        shutil.copy2(ROOT / name, copy / name)
    return copy


def main() -> None:
    """Sample, break, count."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--each", type=int, default=30, help="changes of each area")
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--only", nargs="*", default=[], choices=AREAS, help="areas; all if left out")
    parser.add_argument("--again", action="store_true", help="judge what was not noticed the last time once more")
    parser.add_argument("--watched", action="store_true", help="the suite was watched before, and nothing has changed")
    parser.add_argument(
        "--watch", nargs="+", default=[], help="watch these tests alone, beside what was watched before"
    )
    chosen = parser.parse_args()
    for library in LIBRARIES:
        import_module(library)
    if not chosen.watched:
        watch(chosen.watch)
    known, copy = Tests.known(), copied()
    made, noticed = Counter[str](), Counter[str]()
    log, count = COPIES / "survivors.jsonl", COPIES / "count.json"
    wanted = sampled(chosen.each, chosen.seed, chosen.only)
    if chosen.again:
        told = json.loads(count.read_text())
        made, noticed = Counter(told["made"]), Counter(told["noticed"])
        wanted = [found for line in log.read_text().splitlines() if (found := still_there(json.loads(line)))]
        made.subtract(one.area for one in wanted)
    log.write_text("")
    for mutant in wanted:
        made[mutant.area] += 1
        tests = known.of(mutant)
        if is_noticed(mutant, copy, tests):
            noticed[mutant.area] += 1
        else:
            print(f"{mutant.path}:{mutant.line}: {mutant.was!r} became {mutant.now!r} ({len(tests)} tests)", flush=True)
            with log.open("a") as file:
                file.write(json.dumps(asdict(mutant)) + "\n")
        count.write_text(json.dumps({"made": made, "noticed": noticed}))
    print("\n| area | changes | noticed |\n|---|---|---|")
    for area in made:
        print(f"| {area} | {made[area]} | {noticed[area] / made[area]:.0%} |")
    print(f"| all | {made.total()} | {noticed.total() / made.total():.0%} |")


if __name__ == "__main__":
    main()
