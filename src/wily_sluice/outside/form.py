"""In which form the program is installed: with its engine compiled, or why not (`hatch_build.py` writes that down)."""

import json
import platform
from importlib.resources import files
from typing import Final

from wily_sluice.engine.queueing import tree

COST: Final = "a packet costs about three times the processor time"  # docs/performance.md
REMEDY: Final = "install a C compiler and Python's headers (packages gcc and python3-dev), then the program again"
EDITABLE: Final = "it is an editable installation, which runs the source files"


def why_not_compiled() -> str:
    """Why the engine is not compiled here; empty if it is."""
    if not (tree.__file__ or "").endswith(".py"):
        return ""
    try:
        reason = json.loads((files("wily_sluice") / "form.json").read_text())["reason"]
    except (OSError, ValueError, KeyError):
        return EDITABLE
    return str(reason) or "the compiled modules are missing; install the program again"


def remedy(reason: str) -> str:
    """How the engine gets compiled."""
    return "install the program from a wheel, or with `pip install .`" if reason == EDITABLE else REMEDY


def form_words() -> str:
    """`compiled`, or `not compiled: …`, for a line about the version."""
    reason = why_not_compiled()
    return f"not compiled: {reason}" if reason else "compiled"


def version_words(version: str) -> str:
    """What `--version` prints."""
    reason = why_not_compiled()
    lines = [f"sluice {version}, engine {form_words()}", f"Python {platform.python_version()}"]
    if reason:
        lines.append(f"Shaping works; {COST}. To compile: {remedy(reason)}.")
    return "\n".join(lines)
