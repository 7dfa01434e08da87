# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
READY := $(VENV)/.ready
BIN := $(VENV)/bin

.PHONY: demo test slow lint clean benchmark

demo: $(READY)
	$(BIN)/sluice demo

test: lint system compiled
	$(BIN)/pytest -m "not slow" --ignore tests/engine --ignore tests/forecast
	PYTHONPATH=$(COMPILED) $(BIN)/pytest -m "not slow" tests/engine tests/forecast  # these know no outside world

# What takes its time: some more of the tests on real packets.
slow: $(READY) system
	$(BIN)/pytest -m slow

# The engine as a wheel has it, compiled ahead of time; an editable installation runs the files as they are.
COMPILED := build/compiled
.PHONY: compiled
compiled: $(READY)
	rm -rf build/wheel $(COMPILED)
	$(BIN)/pip wheel --quiet --no-deps --wheel-dir build/wheel .
	$(BIN)/python -m zipfile -e build/wheel/*.whl $(COMPILED)

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# Figures for docs/performance.md, with the compiled engine.
benchmark: compiled
	PYTHONPATH=$(COMPILED) $(BIN)/python -m benchmarks.engine

# The live tests want iptables and ip; only root can install them, and only root can run those tests.
.PHONY: system
system:
	@if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
	   ! { command -v iptables && command -v ip; } >/dev/null; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq iptables iproute2; fi

# Debian keeps `venv` in a package of its own.
$(READY): pyproject.toml
	$(PYTHON) -m venv $(VENV) || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && apt-get update -qq && \
	  apt-get install -y -qq python3-venv && $(PYTHON) -m venv $(VENV); }
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $(READY)

clean:
	rm -rf $(VENV) build .mypy_cache .pytest_cache .ruff_cache .hypothesis
