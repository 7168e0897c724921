# Everything from nothing: a virtual environment of the project's own, then the job.
VENV ?= .venv
PYTHON ?= python3
BIN := $(VENV)/bin
STAMP := $(VENV)/.installed

.PHONY: demo test lint bench screenshots clean

$(STAMP): pyproject.toml constraints.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev,spark]'
	touch $@

demo: $(STAMP)
	$(BIN)/nibbet demo demo/tarnbrook

test: $(STAMP)
	$(BIN)/python -m pytest

lint: $(STAMP)
	$(BIN)/ruff check src tests examples benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(STAMP)
	$(BIN)/python benchmarks/addresses.py

screenshots: $(STAMP) demo
	bash docs/make_screenshots.sh

clean:
	rm -rf $(VENV) demo build dist
