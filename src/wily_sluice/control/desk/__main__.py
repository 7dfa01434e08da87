"""Runs the process beside a gate: `python -m wily_sluice.control.desk STATE SHOW DESCRIPTOR`, as the gate does.

SHOW is who prints what each second brought, as MODULE:FUNCTION; empty for nobody.
"""

import sys
from importlib import import_module
from pathlib import Path

from wily_sluice.control.desk.desk import run_desk


def main(state: str, show: str, descriptor: str) -> None:
    """Sit there until the gate ends."""
    module, _, function = show.partition(":")
    run_desk(int(descriptor), Path(state), getattr(import_module(module), function) if show else None)


if __name__ == "__main__":
    main(*sys.argv[1:])
