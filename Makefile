# Everything from nothing: a virtual environment of the project's own, then the job.
VENV ?= .venv
PYTHON ?= python3
BIN := $(VENV)/bin
STAMP := $(VENV)/.installed

.PHONY: demo test test-all browser lint bench docs assets screenshots clean

$(STAMP): pyproject.toml constraints.txt
	test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(BIN)/python -m pip install --quiet --disable-pip-version-check --constraint constraints.txt --editable '.[dev,spark]'
	touch $@

demo: $(STAMP)
	$(BIN)/nibbet demo demo/tarnbrook

test: $(STAMP) browser
	$(BIN)/python -m pytest

# those marked slow too: simulations, whole worlds, Spark, killed processes
test-all: $(STAMP) browser
	$(BIN)/python -m pytest -m ""

# the report is tested in Debian's chromium; where it cannot be installed, those tests are skipped and say so
browser:
	@command -v chromium >/dev/null || { apt-get update -qq && apt-get install -y -qq chromium; } >/dev/null 2>&1 || echo "chromium is not there: its tests will be skipped"

lint: $(STAMP)
	$(BIN)/ruff check src tests examples benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

bench: $(STAMP)
	$(BIN)/python benchmarks/addresses.py

docs: $(STAMP)
	$(BIN)/mkdocs build --strict --quiet

# the bundled list library, from its registry package
TABULATOR := 6.5.3
assets:
	cd src/nibbet/render/assets && npm pack --silent tabulator-tables@$(TABULATOR) >/dev/null && tar xzf tabulator-tables-$(TABULATOR).tgz --strip-components=1 \
	  package/dist/js/tabulator.min.js package/dist/css/tabulator_simple.min.css package/LICENSE && \
	  mv dist/js/tabulator.min.js dist/css/tabulator_simple.min.css . && mv LICENSE tabulator.LICENSE && rm -r dist tabulator-tables-$(TABULATOR).tgz && \
	  sed -i -E 's@/?[/*]# ?sourceMappingURL=[^ *]*( \*/)?@@' tabulator.min.js tabulator_simple.min.css

screenshots: $(STAMP) demo
	bash docs/make_screenshots.sh

clean:
	rm -rf $(VENV) demo build dist
