# Each target makes its own virtual environment where there is none; needs Python 3.11+ and make, for the tests a C compiler.
PYTHON ?= python3
VENV ?= .venv
BIN := $(VENV)/bin
# Two more than there are processors: many tests wait for what they have started.
WORKERS ?= $(shell expr $$(nproc 2>/dev/null || echo 2) + 2)

# Compiled modules are kept, whatever the host prefers: most of a start is compiling.
unexport PYTHONDONTWRITEBYTECODE

.PHONY: reference docs demo test test-oldest test-system test-long lint fuzz bench schemas clean

demo: $(VENV)/.installed
	$(BIN)/fundamen demo

test: $(VENV)/.dev
	$(BIN)/pytest -n $(WORKERS) --dist loadgroup -m "not system"

# The same with the oldest version of each dependency that pyproject.toml allows.
test-oldest:
	$(MAKE) $(VENV)-oldest/.dev VENV=$(VENV)-oldest
	$(VENV)-oldest/bin/python tools/oldest_versions.py registry | xargs $(VENV)-oldest/bin/pip install --quiet --disable-pip-version-check
	$(VENV)-oldest/bin/pytest -n $(WORKERS) --dist loadgroup -m "not system"

# Every reader of what comes from outside, so many seconds each, guided by coverage.
SECONDS_EACH ?= 10
fuzz: $(VENV)/.dev
	$(BIN)/python tools/dependency_group.py fuzz | xargs $(BIN)/pip install --quiet --disable-pip-version-check
	$(BIN)/python tools/fuzz.py --seconds $(SECONDS_EACH)

test-system: $(VENV)/.dev
	tools/system-packages
	$(BIN)/python tools/dependency_group.py system | xargs $(BIN)/pip install --quiet --disable-pip-version-check
	$(BIN)/python tools/dependency_group.py windows | xargs $(BIN)/pip install --quiet --disable-pip-version-check \
	  --no-deps --platform win_amd64 --python-version 3.11 --only-binary :all: --upgrade --target $(VENV)/windows
	$(BIN)/pytest -n auto --dist loadgroup -m "system and not long"

# Kills, full disks and power cuts at every changing call, and a thousand random damages: each takes minutes. The
# properties that the unit tests try on few examples are tried on many.
test-long: $(VENV)/.dev
	$(BIN)/pytest -n auto --dist loadgroup -m "hypothesis and not system" --hypothesis-profile thorough
	$(BIN)/pytest -n auto --dist worksteal -m long

lint: $(VENV)/.dev
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 src/fundamen/trace/trace.py src/fundamen/trace/inspection.py \
	  src/fundamen/machine/opening.py src/fundamen/machine/windows_host.py src/fundamen/machine/registry_live.py

bench: $(VENV)/.dev
	$(BIN)/python benchmarks/start_up.py
	$(BIN)/python benchmarks/windows_volume.py
	$(BIN)/python benchmarks/all_programs.py
	$(BIN)/python benchmarks/transfer.py
	$(BIN)/python benchmarks/large_catalogue.py
	$(BIN)/python benchmarks/restoration.py
	$(BIN)/python benchmarks/clues.py
	$(BIN)/python benchmarks/requirements.py
	$(BIN)/python benchmarks/survey.py
	$(BIN)/python benchmarks/digests.py
	$(BIN)/python benchmarks/growth.py

# The reference of the commands and the manual pages, written from the commands themselves.
reference: $(VENV)/.dev
	$(BIN)/python tools/write_reference.py

# The documentation as pages, in build/site; every link and every page of it is checked.
docs: $(VENV)/.dev
	$(BIN)/python tools/dependency_group.py docs | xargs $(BIN)/pip install --quiet --disable-pip-version-check
	$(BIN)/python tools/write_reference.py --check
	$(BIN)/mkdocs build --strict --quiet --site-dir build/site

# The JSON Schemas in docs/schemas/, written from the types.
schemas: $(VENV)/.dev
	$(BIN)/python tools/write_schemas.py

clean:
	rm -rf $(VENV) $(VENV)-oldest .fuzz dist .mypy_cache .ruff_cache .pytest_cache .hypothesis

$(VENV)/.made:
	$(PYTHON) -m venv $(VENV)
	touch $@

$(VENV)/.installed: pyproject.toml | $(VENV)/.made
	$(BIN)/pip install --quiet --disable-pip-version-check --editable .
	touch $@

# The groups of pyproject.toml as plain requirements: pip reads them itself only from version 25.1 on.
$(VENV)/.dev: pyproject.toml | $(VENV)/.installed
	$(BIN)/python tools/dependency_group.py dev | xargs $(BIN)/pip install --quiet --disable-pip-version-check
	touch $@
