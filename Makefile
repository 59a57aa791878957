# Two commands for a fresh machine: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint screenshots bench clean

$(BIN)/oaktag: pyproject.toml
	$(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable ".[dev]"
	@touch $@

demo: $(BIN)/oaktag ## set up, and do the main job on the sample
	$(BIN)/oaktag demo

test: lint ## set up, and pass the tests
	$(BIN)/python -m pytest -n auto

lint: $(BIN)/oaktag ## the linter, the type checker and the import rules
	$(BIN)/ruff format --check src tests tools examples docs benchmarks
	$(BIN)/ruff check src tests tools examples docs benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

screenshots: $(BIN)/oaktag ## make the pictures in docs/screenshots again (needs xterm, Xvfb, ImageMagick)
	$(BIN)/python docs/make_screenshots.py

clean: ## remove what was made
	rm -rf $(VENV) build dist src/*.egg-info .mypy_cache .ruff_cache .pytest_cache .hypothesis

bench: $(BIN)/oaktag ## run the benchmarks at full scale, and write their table
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --editable ".[bench]"
	$(BIN)/python benchmarks/run.py --out docs/benchmarks.md
