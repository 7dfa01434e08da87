# Two commands do all the set-up: `make demo` and `make test`.
PYTHON ?= python3
VENV := .venv
READY := $(VENV)/.ready
BIN := $(VENV)/bin

.PHONY: demo test lint clean

demo: $(READY)
	$(BIN)/sluice demo

test: lint system
	$(BIN)/pytest

lint: $(READY)
	$(BIN)/ruff check .
	$(BIN)/ruff format --check .
	$(BIN)/mypy

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
	rm -rf $(VENV) .mypy_cache .pytest_cache .ruff_cache .hypothesis
