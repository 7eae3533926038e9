PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
DEMO ?= drovik-demo

# Kept compiled, so that no test pays again for reading the modules.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: help demo test test-long lint clean

help:
	@echo "make demo       make .venv, install, run the whole job on the demo data"
	@echo "make test       run the tests (minutes on two cores)"
	@echo "make test-long  run what is slow or randomly seeded (hours)"
	@echo "make lint       ruff, mypy, and the contracts of imports"
	@echo "make clean      take away .venv and the demo project"

demo: $(VENV)/installed
	$(BIN)/drovik demo $(DEMO)

test: $(VENV)/installed
	$(BIN)/python -m pytest -n 4

test-long: $(VENV)/installed
	$(BIN)/python -m pytest -n 2 -m long

lint: $(VENV)/installed
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

$(VENV)/installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --editable ".[dev]"
	$(BIN)/python -m compileall -q src
	touch $@

clean:
	rm -rf $(VENV) $(DEMO) build *.egg-info src/*.egg-info
