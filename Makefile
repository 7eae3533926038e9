PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
DEMO ?= drovik-demo
SCRIPTS := src/drovik/reporting/page/scripts/*.js

# Kept compiled, so that no test pays again for reading the modules.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: help demo test test-long lint clean

help:
	@echo "make demo       make .venv, install, run the whole job on the demo data"
	@echo "make test       run the tests (minutes on two cores)"
	@echo "make test-long  run what is slow or randomly seeded (hours)"
	@echo "make lint       ruff, mypy, the contracts of imports, eslint and prettier"
	@echo "make clean      take away .venv and the demo project"

demo: $(VENV)/installed
	$(BIN)/drovik demo $(DEMO)

test: $(VENV)/installed node_modules/installed
	PYTHONDONTWRITEBYTECODE= $(BIN)/python -m pytest -n 6 --dist worksteal

test-long: $(VENV)/installed
	$(BIN)/python -m pytest -n 2 -m long

lint: $(VENV)/installed node_modules/installed
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache
	@if [ -d node_modules/eslint ]; then npx eslint $(SCRIPTS) && npx prettier --check $(SCRIPTS); \
	else echo "npm is not here: the page's script is not looked at"; fi

$(VENV)/installed: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --editable ".[dev]"
	$(BIN)/python -m compileall -q src
	touch $@

# What the page's script is checked with; Drovik itself needs none of it.
node_modules/installed: package.json
	@if command -v npm >/dev/null; then npm install --no-package-lock --ignore-scripts --no-audit --no-fund --silent; \
	else echo "npm is not here: tests of the page's accessibility will be skipped"; mkdir -p node_modules; fi
	@touch $@

clean:
	rm -rf node_modules $(VENV) $(DEMO) build *.egg-info src/*.egg-info
