# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
RUNS := $(VENV)/.runs
READY := $(VENV)/.ready
BIN := $(VENV)/bin
# The program as it ships: a wheel, compiled ahead of time, installed where nothing else is.
SHIPPED := build/shipped
NEEDS := build/needs
FROM_NEEDS := --no-index --find-links $(NEEDS) --no-compile
VERSIONS ?= 3.12 3.13

.PHONY: demo test slow lint clean benchmark versions

demo: $(RUNS)
	$(BIN)/sluice demo

# Everything before a commit, in about ten minutes: the wheel is built while the linters run; then the tests of the wheel
# without real packets; at last one test on real packets for each room of the gate, with the machine to themselves.
TESTED := SLUICE_FORM=compiled $(SHIPPED)/bin/python -m pytest
QUICK := --numprocesses=3 --dist=worksteal --durations=10

test: system
	$(MAKE) --jobs=2 --output-sync=target lint shipped
	$(TESTED) -m "not slow and not live" $(QUICK)
	$(TESTED) -m "room and not slow" --durations=10

# All tests on real packets but the long ones.
.PHONY: live
live: system shipped
	$(TESTED) -m "live and not slow"

# What takes its time: the long tests on real packets, examples that are drawn anew each time, more of them, and the tests
# of the compiled modules as source.
slow: system shipped dist
	seed=$${SEED:-$$(date +%s)}; echo "examples are drawn by SEED=$$seed"; \
	SLUICE_DRAW=anew $(TESTED) -m "slow or thorough" --hypothesis-seed=$$seed
	SLUICE_DRAW=anew $(TESTED) $(QUICK) tests/plan/test_drawn.py tests/plan/test_start.py
	SLUICE_FORM=source $(BIN)/python -m pytest -m "not slow and not thorough" $(QUICK) tests/engine tests/recognition

# The compiled wheel, built as `pip install .` builds it where nothing of ours is, in an environment of its own.
# An editable installation runs the files as they are.
.PHONY: shipped wheel
shipped: system wheel $(NEEDS)/.ready
	test -x $(SHIPPED)/bin/python || $(PYTHON) -m venv $(SHIPPED)
	$(SHIPPED)/bin/pip install --quiet $(FROM_NEEDS) "$$(ls build/wheel/*.whl)[test]"
	$(SHIPPED)/bin/pip install --quiet --no-deps --force-reinstall build/wheel/*.whl

wheel: system
	rm -rf build/wheel build/empty
	$(PYTHON) -m venv build/empty && build/empty/bin/pip wheel --quiet --no-deps --wheel-dir build/wheel .

# For gateways without a compiler: a compiled wheel for machines like this one, and the sources, in dist/.
.PHONY: dist
dist: system
	rm -rf dist build/dist
	$(PYTHON) -m venv build/dist && build/dist/bin/pip install --quiet build
	build/dist/bin/python -m build --outdir dist
	ls dist

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
VENV_MADE = $(PYTHON) -m venv $(VENV) || { [ "$$(id -u)" = 0 ] && command -v apt-get >/dev/null && apt-get update -qq && \
	  apt-get install -y -qq python3-venv && $(PYTHON) -m venv $(VENV); }

$(RUNS): pyproject.toml
	$(VENV_MADE)
	$(BIN)/pip install --quiet --editable .
	touch $(RUNS)

$(READY): $(NEEDS)/.ready
	$(VENV_MADE)
	$(BIN)/pip install --quiet $(FROM_NEEDS) --editable '.[dev]'
	touch $(RUNS) $(READY)

# What the project and its tests need, found and fetched once; the environments are filled from there.
$(NEEDS)/.ready: pyproject.toml
	$(VENV_MADE)
	rm -rf $(NEEDS) && mkdir -p $(NEEDS)
	$(BIN)/python -c 'import tomllib; file = tomllib.load(open("pyproject.toml", "rb")); project = file["project"]; \
	  extra = project["optional-dependencies"]; needs = (file["build-system"]["requires"] + ["editables"] + extra["test"] \
	  + project["dependencies"] + extra["dev"][1:]); print(*needs, sep="\n")' > $(NEEDS)/needs.txt
	$(BIN)/pip wheel --quiet --wheel-dir $(NEEDS) --requirement $(NEEDS)/needs.txt
	touch $(NEEDS)/.ready

clean:
	rm -rf $(VENV) build .mypy_cache .pytest_cache .ruff_cache .hypothesis
