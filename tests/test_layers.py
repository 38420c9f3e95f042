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


def imports_of(name):
    path = SOURCE.parent / Path(*name.split("."))
    path = path / "__init__.py" if path.is_dir() else path.with_suffix(".py")
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("gommage"):
            found |= {f"{node.module}.{alias.name}" for alias in node.names} | {node.module}
    return {one for one in found if one in MODULES and one != name}


def test_no_import_goes_in_a_circle_not_even_a_late_one():
    packages = {name for name in MODULES if any(other.startswith(name + ".") for other in MODULES)}
    graph = {name: imports_of(name) - packages for name in MODULES if name not in packages}
    done, path = set(), []

    def visit(name):
        assert name not in path, " -> ".join([*path, name])
        if name in done:
            return
        path.append(name)
        for other in sorted(graph[name]):
            visit(other)
        done.add(path.pop())

    for name in graph:
        visit(name)


def test_public_names_exist():
    import importlib

    for info in pkgutil.walk_packages(gommage.__path__, "gommage."):
        module = importlib.import_module(info.name)
        for name in getattr(module, "__all__", ()):
            assert hasattr(module, name), f"{info.name}.{name}"


def test_sources_name_no_host_and_no_machine():
    for path in [*SOURCE.rglob("*.py"), *Path("tests").rglob("*.py"), Path("Makefile"), Path("pyproject.toml")]:
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
