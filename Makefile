# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
RUNS := $(VENV)/.runs
READY := $(VENV)/.ready
BIN := $(VENV)/bin
# The program as it ships: a wheel, compiled ahead of time, installed where nothing else is.
SHIPPED := build/shipped
VERSIONS ?= 3.12 3.13

.PHONY: demo test source slow lint clean benchmark versions

demo: $(RUNS)
	$(BIN)/sluice demo

# The wheel is built while the linters and the tests of the source form run; the live tests have the machine to themselves.
test: $(READY) system
	$(MAKE) --jobs=2 --output-sync=target source shipped
	SLUICE_FORM=compiled $(SHIPPED)/bin/python -m pytest -m "not slow" --durations=20

source: lint
	SLUICE_FORM=source $(BIN)/python -m pytest -m "not slow" tests/engine tests/plan tests/forecast tests/test_installation.py

# All tests on real packets, the long ones too.
.PHONY: live
live: system shipped
	SLUICE_FORM=compiled $(SHIPPED)/bin/python -m pytest -m live

# What takes its time: some more of the tests on real packets, and examples that are drawn anew each time.
slow: system shipped
	seed=$${SEED:-$$(date +%s)}; echo "examples are drawn by SEED=$$seed"; \
	SLUICE_FORM=compiled SLUICE_DRAW=anew $(SHIPPED)/bin/python -m pytest -m slow --hypothesis-seed=$$seed

# The compiled wheel, built as `pip install .` builds it where nothing of ours is, in an environment of its own.
# An editable installation runs the files as they are.
.PHONY: shipped
shipped: system
	rm -rf build/wheel build/empty
	$(PYTHON) -m venv build/empty && build/empty/bin/pip wheel --quiet --no-deps --wheel-dir build/wheel .
	test -x $(SHIPPED)/bin/python || $(PYTHON) -m venv $(SHIPPED)
	$(SHIPPED)/bin/pip install --quiet "$$(ls build/wheel/*.whl)[test]"
	$(SHIPPED)/bin/pip install --quiet --no-deps --force-reinstall build/wheel/*.whl

# The wheel and its tests with other versions of Python, those of VERSIONS that are on this machine.
versions: system
	@found=; for version in $(VERSIONS); do \
	  python=$$(ls -d $$HOME/.pyenv/versions/$$version.*/bin/python 2>/dev/null | tail -1); \
	  python=$${python:-$$(command -v python$$version)}; \
	  if ! "$$python" -c '' 2>/dev/null; then echo "Python $$version is not on this machine"; continue; fi; \
	  found=yes; place=build/python$$version; rm -rf $$place && "$$python" -m venv $$place && \
	  $$place/bin/pip wheel --quiet --no-deps --wheel-dir $$place/wheel . && \
	  $$place/bin/pip install --quiet "$$(ls $$place/wheel/*.whl)[test]" && \
	  SLUICE_FORM=compiled $$place/bin/python -m pytest -m "not slow" || exit 1; \
	done; test -n "$$found"

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

# Figures for docs/performance.md, with the compiled engine.
benchmark: shipped
	$(SHIPPED)/bin/python -m benchmarks.engine

# The live tests want iptables and ip, and the wheel a C compiler; only root can install them, and run those tests.
.PHONY: system
system:
	@if [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && \
	   ! { command -v iptables && command -v ip && command -v nft && command -v cc && command -v chromium; } >/dev/null; then \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq \
	    iptables iproute2 nftables gcc libc6-dev python3-dev chromium; fi

# Debian keeps `venv` in a package of its own.
$(RUNS): pyproject.toml
	$(PYTHON) -m venv $(VENV) || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && apt-get update -qq && \
	  apt-get install -y -qq python3-venv && $(PYTHON) -m venv $(VENV); }
	$(BIN)/pip install --quiet --editable .
	touch $(RUNS)

$(READY): $(RUNS)
	$(BIN)/pip install --quiet --editable '.[dev]'
	touch $(READY)

clean:
	rm -rf $(VENV) build .mypy_cache .pytest_cache .ruff_cache .hypothesis
