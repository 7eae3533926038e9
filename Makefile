PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
DEMO ?= drovik-demo

.PHONY: demo test test-long lint clean

demo: $(VENV)/installed
	$(BIN)/drovik demo $(DEMO)

test: $(VENV)/installed
	$(BIN)/python -m pytest -n 3

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
	touch $@

clean:
	rm -rf $(VENV) $(DEMO) build *.egg-info src/*.egg-info
