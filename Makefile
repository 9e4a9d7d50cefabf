# Every target sets up what it needs: a virtual environment, the packages, Qt's shared libraries.
PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin
READY := $(VENV)/.ready
READY_DEV := $(VENV)/.ready-dev
SOURCES := pyproject.toml constraints.txt constraints-dev.txt tools/system_libraries.sh
# Nothing is installed whose hash is not known, and nothing is fetched for the build itself.
INSTALL := $(BIN)/python -m pip install --quiet --disable-pip-version-check

.PHONY: install install-dev demo test lowest fuzz bench lint shots figures system clean

install: $(READY)

install-dev: $(READY_DEV)

system:
	@sh tools/system_libraries.sh

$(READY): $(SOURCES)
	@sh tools/system_libraries.sh
	@test -x $(BIN)/python || $(PYTHON) -m venv $(VENV)
	$(INSTALL) --require-hashes -r constraints.txt
	$(INSTALL) --no-deps --no-build-isolation -e .
	@$(BIN)/python -m compileall -q src
	@touch $(READY)

$(READY_DEV): $(READY)
	$(INSTALL) --require-hashes -r constraints-dev.txt
	@touch $(READY_DEV)

demo: install
	$(BIN)/yarvic demo

test: install-dev
	sh tools/run_tests.sh $(BIN)

# The same tests with the least versions that pyproject.toml allows, in an environment of their own.
lowest: install-dev
	@test -x $(VENV)-lowest/bin/python || $(PYTHON) -m venv $(VENV)-lowest
	$(BIN)/python tools/lowest.py > $(VENV)-lowest/lowest.txt
	$(VENV)-lowest/bin/python -m pip install --quiet --disable-pip-version-check -r $(VENV)-lowest/lowest.txt setuptools
	$(VENV)-lowest/bin/python -m pip install --quiet --disable-pip-version-check --no-deps --no-build-isolation -e .
	sh tools/run_tests.sh $(VENV)-lowest/bin

fuzz: install-dev
	sh tools/run_fuzz.sh $(BIN) $(or $(FUZZ_S),3600)

bench: install
	@$(BIN)/python -m compileall -q src
	QT_QPA_PLATFORM=offscreen $(BIN)/python -m benchmarks

lint: install-dev
	$(BIN)/ruff check src tests benchmarks
	$(BIN)/ruff format --check src tests benchmarks
	$(BIN)/mypy
	$(BIN)/lint-imports

figures: install
	$(BIN)/python -m yarvic.desk.figures docs/figures

shots: install
	$(BIN)/python -m yarvic.desk.shots docs/screenshots

clean:
	rm -rf $(VENV) $(VENV)-lowest build dist .pytest_cache .mypy_cache .ruff_cache
