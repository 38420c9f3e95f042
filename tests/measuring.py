"""How long tests take: which are slow, and which files go first. `make durations` measures it anew."""

import json
import time
from collections import defaultdict
from pathlib import Path
from typing import ClassVar

import pytest

from tests.shots import IS_WHOLE

MEASURED = Path(__file__).with_name("durations.json")
"""Seconds that the tests of each file take; of one with parameters, those of its longest run."""
SLOW_S = 0.25
"""A test that takes longer is marked slow, and left out of `make test-fast`."""
LONG_S = 4.0
"""What several tests share and takes longer counts for each of them."""
NOTED_S = 0.05
"""What takes less is not written down."""
PROPERTY = "seconds"


def pytest_addoption(parser):
    parser.addoption("--measure", action="store_true", help=f"write how long each test takes to {MEASURED.name}")


def pytest_configure(config):
    config.addinivalue_line("markers", f"slow: takes more than {SLOW_S} s, as measured by `make durations`")
    config.addinivalue_line("markers", "journey: a whole job; `make journeys` has it over the whole of its shot")
    config.addinivalue_line("markers", "whole: for `make journeys` alone, since it takes long")


def pytest_collection_modifyitems(config, items):
    """Mark what is slow, leave to `make journeys` what is for that, and let workers begin with the longest files."""
    known = json.loads(MEASURED.read_text()) if MEASURED.exists() else {}
    seconds = {item: known.get(_file(item), {}).get(_name(item), 0.0) for item in items}
    of_file = defaultdict(float)
    for item in items:
        of_file[_file(item)] += seconds[item]
        if seconds[item] > SLOW_S:
            item.add_marker("slow")
    left_out = [] if IS_WHOLE else [item for item in items if item.get_closest_marker("whole")]
    if left_out:
        config.hook.pytest_deselected(items=left_out)
    items[:] = [item for item in items if item not in left_out]
    if hasattr(config, "workerinput"):
        items.sort(key=lambda item: -of_file[_file(item)])


def _file(item):
    return item.nodeid.partition("::")[0]


def _name(item):
    return item.nodeid.partition("::")[2].partition("[")[0]


# -- measuring --------------------------------------------------------------------------------------------------


class _Shared:
    """Seconds that went into what several tests share.

    They count for none of them; where it takes long, for all of them, since each would wait for it if it ran alone.
    """

    seconds, depth = 0.0, 0
    long: ClassVar[dict[str, float]] = {}


@pytest.hookimpl(wrapper=True)
def pytest_fixture_setup(fixturedef):
    if fixturedef.scope == "function" or _Shared.depth:
        return (yield)
    _Shared.depth, begun = 1, time.perf_counter()
    try:
        return (yield)
    finally:
        _Shared.depth, took = 0, time.perf_counter() - begun
        _Shared.seconds += took
        if took > LONG_S:
            _Shared.long[fixturedef.argname] = took


@pytest.hookimpl(wrapper=True)
def pytest_runtest_setup(item):
    item.stash[_BEGUN] = time.perf_counter(), _Shared.seconds
    return (yield)


@pytest.hookimpl(wrapper=True)
def pytest_runtest_call(item):
    try:
        return (yield)
    finally:
        begun, shared = item.stash[_BEGUN]
        took = time.perf_counter() - begun - (_Shared.seconds - shared)
        took += sum(seconds for name, seconds in _Shared.long.items() if name in item.fixturenames)
        item.user_properties.append((PROPERTY, took))


_BEGUN = pytest.StashKey()


class Measures:
    """Gathers how long tests took, from whichever process ran them, and writes that down for their files."""

    def __init__(self, path):
        self._path, self._seconds = path, defaultdict(dict)

    def pytest_runtest_logreport(self, report):
        took = dict(report.user_properties).get(PROPERTY)
        if report.when == "call" and took is not None:
            file, _, name = report.nodeid.partition("::")
            known, name = self._seconds[file], name.partition("[")[0]
            known[name] = max(known.get(name, 0.0), took)

    def pytest_sessionfinish(self):
        known = json.loads(self._path.read_text()) if self._path.exists() else {}
        for file, measured in self._seconds.items():
            known[file] = {name: round(took, 2) for name, took in sorted(measured.items()) if took >= NOTED_S}
        self._path.write_text(json.dumps({file: known[file] for file in sorted(known) if known[file]}, indent=0) + "\n")


def pytest_sessionstart(session):
    if session.config.getoption("--measure") and not hasattr(session.config, "workerinput"):
        session.config.pluginmanager.register(Measures(MEASURED))
