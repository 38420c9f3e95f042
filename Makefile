# Everything a person or a machine does with this project. `make demo` and `make test` set up what they need.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
PIP := $(BIN)/python -m pip --disable-pip-version-check --quiet
QT_PACKAGES := python3-venv libegl1 libgl1 libopengl0 libxkbcommon0 libxkbcommon-x11-0 libdbus-1-3 libfontconfig1 \
	libglib2.0-0 libxcb-cursor0 libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 \
	libxcb-shape0 libxcb-xinerama0
TEST_PACKAGES := xvfb xauth

# One thread each for the libraries: two workers keep two cores busy.
PYTEST := QT_QPA_PLATFORM=offscreen OPENBLAS_NUM_THREADS=1 OPENCV_FOR_THREADS_NUM=1 $(BIN)/python -m pytest
SIDE_BY_SIDE := -n 2 --dist loadfile --no-loadscope-reorder

# What is compiled is kept, even where the machine's settings say otherwise: each process would compile it all again.
export PYTHONDONTWRITEBYTECODE :=

.PHONY: help demo prepared test test-fast durations lint bench journeys mutants shots requirements clean

$(VENV)/.runtime: requirements/runtime.txt requirements/build.txt pyproject.toml
	sh tools/debian-packages.sh $(QT_PACKAGES)
	$(PYTHON) -m venv $(VENV)
	$(PIP) install --no-compile --require-hashes -r requirements/build.txt -r requirements/runtime.txt
	$(PIP) install --no-compile --no-deps --no-build-isolation --editable .
	touch $@

$(VENV)/.developer: $(VENV)/.runtime requirements/developer.txt
	sh tools/debian-packages.sh $(TEST_PACKAGES)
	$(PIP) install --no-compile --require-hashes -r requirements/developer.txt
	touch $@

demo: $(VENV)/.runtime
	$(BIN)/gommage demo

prepared: $(VENV)/.runtime
	$(BIN)/python -m tests.prepare

test: $(VENV)/.developer prepared
	$(PYTEST) $(SIDE_BY_SIDE)

test-fast: $(VENV)/.developer
	$(PYTEST) $(SIDE_BY_SIDE) -m "not slow"

durations: $(VENV)/.developer prepared
	$(PYTEST) $(SIDE_BY_SIDE) --measure

lint: $(VENV)/.developer
	$(BIN)/ruff format --check src tests benchmarks tools
	$(BIN)/ruff check src tests benchmarks tools
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(VENV)/.developer
	$(BIN)/gommage bench --write docs/accuracy.md
	$(BIN)/python -m benchmarks

shots: $(VENV)/.runtime
	QT_QPA_PLATFORM=offscreen $(BIN)/python tools/screenshots.py docs/screenshots

journeys: $(VENV)/.developer
	GOMMAGE_JOURNEYS=whole $(PYTEST) -m "journey or whole"
	$(BIN)/python tools/journeys.py docs/journeys.md

mutants: $(VENV)/.developer prepared
	$(BIN)/python tools/mutants.py

requirements:
	uv pip compile pyproject.toml --universal --generate-hashes --python-version 3.11 --no-emit-index-url --no-header --no-annotate --quiet -o requirements/runtime.txt
	uv pip compile pyproject.toml --extra dev --universal --generate-hashes --python-version 3.11 --no-emit-index-url --no-header --no-annotate --quiet -c requirements/runtime.txt -o requirements/developer.txt

clean:
	rm -rf $(VENV) build .mypy_cache .ruff_cache .pytest_cache

help:
	@echo "demo  test  test-fast  durations  lint  bench  journeys  mutants  shots  requirements  clean"
