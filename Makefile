# Everything a newcomer needs: `make demo` and `make test` set up what they use and run.

PYTHON ?= python3
VENV := .venv
BIN := $(VENV)/bin

# What is tested once more with the modules for Windows: what changes files, locks them, or waits
# for processes.
AS_WINDOWS := $(patsubst %,tests/test_%.py,audit carrying filing packing platform refile runs \
	strands twins unpacking)
SLOW_AS_WINDOWS := $(patsubst %,tests/test_%.py,arrivals breaking buckets cart_commands combining \
	errands executors faults handling hostile_folder offline receipts settings)

.PHONY: demo test as-windows nightly check wheels bench docs clean

demo: $(VENV)/.ready
	$(BIN)/willow-cart demo --into demo-run

test: $(VENV)/.ready-dev
	$(BIN)/pytest -n 4

as-windows: $(VENV)/.ready-dev
	sh tools/test_as_windows.sh $(AS_WINDOWS)

nightly: $(VENV)/.ready-dev
	WILLOW_CART_KILLS=200 $(BIN)/pytest tests/test_breaking.py tests/test_cluster.py
	WILLOW_CART_HOSTS=1 $(BIN)/pytest tests/test_cluster_hosts.py
	$(MAKE) as-windows AS_WINDOWS="$(AS_WINDOWS) $(SLOW_AS_WINDOWS)"
	$(MAKE) wheels

check: $(VENV)/.ready-dev
	$(BIN)/ruff check
	$(BIN)/ruff format --check
	$(BIN)/mypy
	$(BIN)/mypy --platform win32 src
	$(BIN)/mypy --platform darwin src
	$(BIN)/lint-imports --no-logo

wheels: $(VENV)/.ready-dev
	$(BIN)/python tools/check_wheels.py $(PYTHONS)

bench: $(VENV)/.ready-bench
	$(BIN)/python benchmarks/run.py

docs: $(VENV)/.ready-dev
	$(BIN)/python docs/make_outputs.py
	$(BIN)/python docs/make_reference.py
	$(BIN)/python docs/make_schema.py
	$(BIN)/python docs/make_keywords.py
	$(BIN)/python docs/make_columns.py

$(VENV)/bin/python:
	PYTHON=$(PYTHON) sh tools/make_venv.sh $(VENV)

$(VENV)/.ready: pyproject.toml $(VENV)/bin/python
	$(BIN)/pip install --quiet --disable-pip-version-check --editable .
	touch $@

$(VENV)/.ready-servers: tools/get_servers.sh | $(VENV)/bin/python
	sh tools/get_servers.sh $(VENV)/azurite
	touch $@

$(VENV)/.ready-dev: pyproject.toml $(VENV)/bin/python $(VENV)/.ready-servers
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[dev]'
	touch $@ $(VENV)/.ready

$(VENV)/.ready-bench: pyproject.toml $(VENV)/bin/python
	sh tools/get_servers.sh
	$(BIN)/pip install --quiet --disable-pip-version-check --editable '.[bench]'
	touch $@

clean:
	rm -rf $(VENV) demo-run build dist
