"""The house: no Qt in the core, no cycles of imports, public names that exist, docstrings that are there."""

import ast
import pkgutil
import subprocess
import sys
from pathlib import Path

import gommage

SOURCE = Path(gommage.__file__).parent
MODULES = sorted(
    ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")
    for path in SOURCE.rglob("*.py")
)


def test_the_core_lives_without_qt():
    core = [name for name in MODULES if name.startswith(("gommage.core", "gommage.demo", "gommage.errors"))]
    script = "import sys\nsys.modules['PySide6'] = None\n" + "\n".join(f"import {name}" for name in core)
    subprocess.run([sys.executable, "-c", script], check=True)


def imported(text):
    """Return the names that a module imports from the package, whether at once or late."""
    found = set()
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        if isinstance(node, ast.ImportFrom):
            assert not node.level, "modules are imported by their whole names"
            found |= {f"{node.module}.{alias.name}" for alias in node.names} | {node.module}
    return found


def circle_in(graph):
    """Return names that lead back to the first of them, empty if there are none."""
    done, path = set(), []

    def circle_from(name):
        if name in path:
            return [*path[path.index(name) :], name]
        if name in done:
            return []
        done.add(name)
        path.append(name)
        found = next((one for other in sorted(graph[name]) if (one := circle_from(other))), [])
        path.pop()
        return found

    return next((found for name in sorted(graph) if (found := circle_from(name))), [])


def test_circles_are_found_and_late_imports_are_seen():
    assert circle_in({"a": {"b", "c"}, "b": {"d"}, "c": {"d"}, "d": set()}) == []
    assert circle_in({"a": {"b"}, "b": {"c"}, "c": {"d"}, "d": {"b"}}) == ["b", "c", "d", "b"]
    text = "import gommage.one\nfrom gommage.two import three\ndef late():\n    from gommage.four import five\n"
    assert {"gommage.one", "gommage.two.three", "gommage.four.five"} <= imported(text)


def test_no_import_goes_in_a_circle_not_even_a_late_one():
    packages = {name for name in MODULES if any(other.startswith(name + ".") for other in MODULES)}
    known, graph = set(MODULES) - packages, {}
    for name in known:
        path = SOURCE.parent / Path(*name.split(".")).with_suffix(".py")
        graph[name] = (imported(path.read_text()) & known) - {name}
    assert sum(map(len, graph.values())) > 500, "a program of this size"
    assert circle_in(graph) == []


def test_public_names_exist():
    import importlib

    for info in pkgutil.walk_packages(gommage.__path__, "gommage."):
        module = importlib.import_module(info.name)
        for name in getattr(module, "__all__", ()):
            assert hasattr(module, name), f"{info.name}.{name}"


def test_sources_name_no_host_and_no_machine():
    root = Path(__file__).parents[1]
    named = [root / name for name in ("Makefile", "pyproject.toml", "README.md", "CONTRIBUTING.md", ".ci/run")]
    for path in [*SOURCE.rglob("*.py"), *(root / "tests").rglob("*.py"), *(root / "tools").rglob("*.*"), *named]:
        if path.suffix == ".pyc":
            continue
        text = path.read_text()
        assert "/work" + "/" not in text, path
        assert "pypi" + ".org" not in text, path


MATRICES = ("core/geometry", "core/follow", "core/document/upgrades.py")


def test_matrices_are_known_where_they_belong_alone():
    """What moves points is a mapping everywhere else: nobody else inverts a matrix."""
    inverting = [place for place, text in sources() if "linalg.inv" in text and not place.startswith(MATRICES)]
    assert inverting == []


def test_modules_are_one_thing_each():
    """In `follow` a module may be longer: one alignment, one walk is one thing."""
    long = {place: len(text.splitlines()) for place, text in sources()}
    limits = {place: 660 if Path(place).parent.name == "follow" else 450 for place in long}
    assert {place: lines for place, lines in long.items() if lines > limits[place]} == {}, "take them apart"


def sources():
    """Return where each module lies in the package, and its text."""
    return [(str(path.relative_to(SOURCE)), path.read_text()) for path in SOURCE.rglob("*.py")]
