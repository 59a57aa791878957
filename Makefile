# Two commands for a fresh machine: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

.PHONY: demo test lint site screenshots bench campaign lock clean

PIP := $(BIN)/python -m pip --quiet --disable-pip-version-check

# What is installed is what is locked, to the hash of each file.
$(BIN)/oaktag: pyproject.toml requirements/dev.txt
	$(PYTHON) -m venv $(VENV)
	$(PIP) install --require-hashes --requirement requirements/dev.txt
	$(PIP) install --no-deps --no-build-isolation --editable .
	@touch $@

demo: $(BIN)/oaktag ## set up, and do the main job on the sample
	$(BIN)/oaktag demo

# Tests start the command hundreds of times; where Python keeps no bytecode, each would compile it all.
test: lint ## set up, and pass the tests
	$(BIN)/python -m compileall -q src/oaktag
	$(BIN)/python -m pytest -n auto

lint: $(BIN)/oaktag ## the linter, the type checker and the import rules
	$(BIN)/ruff format --check src tests tools examples docs benchmarks
	$(BIN)/ruff check src tests tools examples docs benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports --no-cache

site: $(BIN)/oaktag ## build the documentation as one site, in site/
	$(BIN)/python docs/make_reference.py
	$(BIN)/mkdocs build --strict --quiet

screenshots: $(BIN)/oaktag ## make the pictures in docs/screenshots again (needs xterm, Xvfb, ImageMagick, Chromium)
	$(BIN)/python docs/make_screenshots.py

clean: ## remove what was made
	rm -rf $(VENV) site build dist src/*.egg-info .mypy_cache .ruff_cache .pytest_cache .hypothesis

bench: $(BIN)/oaktag ## run the benchmarks at full scale, and write their table
	$(PIP) install --require-hashes --requirement requirements/bench.txt
	$(BIN)/python benchmarks/run.py --out docs/benchmarks.md
	$(BIN)/python benchmarks/run.py --only lists --out docs/benchmarks-lists.md

campaign: $(BIN)/oaktag ## attack it at length (hours); docs/campaigns.md says what came of it
	$(PIP) install --require-hashes --requirement requirements/bench.txt
	cd benchmarks && for one in "readers --tries 1000000 --at-random" "readers --tries 20000" \
	  "inputs --tries 20000" "kills --tries 10000" "pairs --tries 2000" "room --tries 1000" \
	  "repositories --tries 500" "labs --tries 500" "judges --packets 1000000" "small --tables 20000 --lists 5000" \
	  "dialects --tries 200000" "datagrams --tries 1000000" "stores --tries 1000"; \
	  do ../$(BIN)/python -m campaigns.$$one || exit 1; done

lock: ## lock the requirements anew, each at its newest version that fits
	$(PYTHON) -m venv $(VENV)
	$(PIP) install uv
	$(BIN)/uv pip compile pyproject.toml --quiet --upgrade --universal --generate-hashes \
	  --python-version 3.11 --extra dev --output-file requirements/dev.txt
	$(BIN)/uv pip compile pyproject.toml --quiet --upgrade --universal --generate-hashes \
	  --python-version 3.11 --extra dev --extra bench --output-file requirements/bench.txt

