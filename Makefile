# Works with nothing but Python 3.11 and make: every target sets up its own .venv.
PYTHON ?= $(shell command -v python3.11 || command -v python3)
VENV := .venv
# modules are byte-compiled when they are first imported, not all of them by pip
unexport PYTHONDONTWRITEBYTECODE
BIN := $(VENV)/bin
READY := $(VENV)/.ready

.PHONY: demo test docs lint validation error-bars tuned-numbers robustness fleet fleet-meshes demands flights damage fuzz kills benchmarks screenshots clean

demo: $(READY)
	$(BIN)/zephyrum demo

test: $(READY)
	$(BIN)/python -m tests

lint: $(READY)
	$(BIN)/ruff check src tests examples validation benchmarks docs
	$(BIN)/ruff format --check src tests examples validation benchmarks docs
	$(BIN)/mypy

docs: $(READY)
	$(BIN)/python -m pip install --quiet -e '.[docs]'
	$(BIN)/python docs/make_reference.py
	$(BIN)/python -m mkdocs build --strict --quiet

validation: $(READY)
	$(BIN)/python -m validation

tuned-numbers: $(READY)
	$(BIN)/python -m validation.tuned_numbers

error-bars: $(READY)
	$(BIN)/python -m validation.error_bars

robustness: $(READY)
	$(BIN)/python -m validation.robustness

fleet: $(READY)
	$(BIN)/python -m validation.fleet

fleet-meshes: $(READY)
	$(BIN)/python -m validation.fleet_meshes

demands: $(READY)
	$(BIN)/python -m validation.demands

flights: $(READY)
	$(BIN)/python -m validation.flights

fuzz: $(READY)
	$(BIN)/python -m validation.fuzz

kills: $(READY)
	$(BIN)/python -m validation.kills

damage: $(READY)
	$(BIN)/python -m validation.damage

benchmarks: $(READY)
	$(BIN)/python -m benchmarks

screenshots: $(READY)
	$(BIN)/python docs/make_screenshots.py

$(READY): pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --no-compile -e '.[dev]'
	touch $(READY)

clean:
	rm -rf $(VENV) build dist src/*.egg-info
	find . -name __pycache__ -prune -exec rm -rf {} +
