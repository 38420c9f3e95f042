"""Break the program in one place at a time, and count how often the tests notice: `make mutants`.

Places are sampled over the code that matters (`AREAS`), so many of each; the tests of the place's area run until one
fails, quick ones first. What no test noticed is listed. Each change is made in a copy below ``build/mutants``.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import signal
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path
from queue import SimpleQueue

ROOT = Path(__file__).parents[1]
COPIES = ROOT / "build" / "mutants"
CORE = "src/gommage/core"
AREAS = {
    "follow": (f"{CORE}/follow", "tests/follow tests/engine/test_following.py tests/engine/test_solving.py "
               "tests/engine/test_panoramas.py tests/test_accuracy.py tests/app/test_follow_step.py"),
    "cover": (f"{CORE}/cover", "tests/cover tests/document/test_shapes.py tests/engine/test_matte_files.py "
              "tests/engine/test_doubts.py tests/app/test_shapes.py tests/app/test_found_journeys.py"),
    "fill": (f"{CORE}/fill", "tests/fill tests/engine tests/app/test_fill_step.py tests/app/test_fills_here.py "
             "tests/app/test_passer_by.py"),
    "paint": (f"{CORE}/paint", "tests/paint tests/engine/test_touch_up.py tests/app/test_painting.py "
              "tests/app/test_hands.py"),
    "match": (f"{CORE}/match", "tests/match tests/engine/test_matching.py tests/engine/test_match_by_hand.py "
              "tests/engine/test_light_curves.py tests/test_accuracy.py tests/fill tests/engine/test_engine.py"),
    "check": (f"{CORE}/check", "tests/engine/test_engine.py tests/test_accuracy.py tests/cli"),
    "edits": (f"{CORE}/document/edits", "tests/document tests/engine/test_touch_up.py tests/app/test_shapes.py "
              "tests/app/test_strokes.py tests/app/test_follow_step.py tests/app/test_parts.py"),
    "engine": (f"{CORE}/engine", "tests/engine tests/cli tests/fill tests/app/test_fill_step.py "
               "tests/app/test_hands.py tests/app/test_scene_step.py tests/app/test_found_journeys.py"),
    "window": ("src/gommage/app/session.py src/gommage/app/desk.py src/gommage/app/picture/views.py",
               "tests/app/test_parts.py tests/app/test_hands.py tests/app/test_lists.py tests/app/test_safety.py "
               "tests/app/test_strokes.py tests/app/test_follow_step.py tests/app/test_fill_step.py tests/app"),
}  # fmt: skip
"""By name: the files that are changed, and the tests that should notice."""
LONGEST_S = 600.0
"""A change after which tests take longer has made them hang, which is noticed as well."""

SWAPS: dict[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
}  # fmt: skip
NAMES = {"min": "max", "max": "min", "any": "all", "all": "any", "minimum": "maximum", "maximum": "minimum"}


@dataclass(frozen=True)
class Mutant:
    """One change: a stretch of a file's text, and what stands there instead."""

    area: str
    path: str
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
    inside = [node for function in ast.walk(tree) if isinstance(function, ast.FunctionDef) for one in function.body
              for node in ast.walk(one)]  # fmt: skip
    for node in {id(one): one for one in inside}.values():
        new = changed(node)
        if new is not None and isinstance(node, ast.expr | ast.stmt):
            begin = starts[node.lineno - 1] + node.col_offset
            end = starts[(node.end_lineno or node.lineno) - 1] + (node.end_col_offset or 0)
            now = ast.unparse(ast.fix_missing_locations(new))
            was = text.encode()[begin:end].decode()
            wrapped = f"({now})" if isinstance(node, ast.expr) else now
            yield Mutant(area, str(path.relative_to(ROOT)), node.lineno, begin, end, was, wrapped)


def sampled(count: int, seed: int, only: list[str]) -> list[Mutant]:
    """Return so many changes of each area, at random places of it."""
    out = []
    for area, (files, _) in AREAS.items():
        if only and area not in only:
            continue
        paths = [one for name in files.split() for one in ([ROOT / name] if name.endswith(".py")
                                                           else sorted((ROOT / name).rglob("*.py")))]  # fmt: skip
        every = [one for path in paths for one in mutants_of(area, path)]
        out += random.Random(f"{seed} {area}").sample(every, min(count, len(every)))
    return out


def is_noticed(mutant: Mutant, copy: Path) -> bool:
    """Make a change in a copy of the project, run the tests of its area, and take the change back."""
    path = copy / mutant.path
    whole, stat = path.read_bytes(), path.stat()
    path.write_bytes(whole[: mutant.begin] + mutant.now.encode() + whole[mutant.end :])
    try:
        tests = AREAS[mutant.area][1].split()
        return any(fails(copy, tests, marked) for marked in ("not slow", "slow"))
    finally:
        path.write_bytes(whole)
        os.utime(path, ns=(stat.st_atime_ns, stat.st_mtime_ns))  # what is compiled of it is kept


def fails(copy: Path, tests: list[str], marked: str) -> bool:
    """Return whether one of some tests fails, or hangs."""
    environment = {**os.environ, "PYTHONPATH": str(copy / "src"), "QT_QPA_PLATFORM": "offscreen",
                   "PYTHONDONTWRITEBYTECODE": "1"}  # fmt: skip
    command = [sys.executable, "-m", "pytest", "-x", "-q", "-m", marked, "-p", "no:cacheprovider", *tests]
    with subprocess.Popen(command, cwd=copy, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                          start_new_session=True) as run:  # fmt: skip
        try:
            return run.wait(LONGEST_S) not in (0, 5)  # 5: no test is marked like that
        except subprocess.TimeoutExpired:
            os.killpg(run.pid, signal.SIGKILL)
            return True


def copied(number: int) -> Path:
    """Return a copy of the project to break."""
    copy = COPIES / str(number)
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
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--only", nargs="*", default=[], choices=AREAS, help="areas; all if left out")
    chosen = parser.parse_args()
    wanted = sampled(chosen.each, chosen.seed, chosen.only)
    random.Random(chosen.seed).shuffle(wanted)
    free: SimpleQueue[Path] = SimpleQueue()
    for number in range(chosen.processes):
        free.put(copied(number))
    made, noticed = Counter[str](), Counter[str]()
    log = COPIES / "survivors.jsonl"
    log.write_text("")

    def judged(mutant: Mutant) -> tuple[Mutant, bool]:
        copy = free.get()
        try:
            return mutant, is_noticed(mutant, copy)
        finally:
            free.put(copy)

    with ThreadPoolExecutor(chosen.processes) as pool:
        for mutant, is_killed in pool.map(judged, wanted):
            made[mutant.area] += 1
            noticed[mutant.area] += is_killed
            if not is_killed:
                print(f"{mutant.path}:{mutant.line}: {mutant.was!r} became {mutant.now!r}", flush=True)
                with log.open("a") as file:
                    file.write(json.dumps(asdict(mutant)) + "\n")
            (COPIES / "count.json").write_text(json.dumps({"made": made, "noticed": noticed}))
    print("\n| area | changes | noticed |\n|---|---|---|")
    for area in made:
        print(f"| {area} | {made[area]} | {noticed[area] / made[area]:.0%} |")
    print(f"| all | {made.total()} | {noticed.total() / made.total():.0%} |")


if __name__ == "__main__":
    main()
