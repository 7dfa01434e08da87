"""What happened, a line each on the standard error: for a person on a terminal, else as JSON for whoever collects it.

A line has `at` (RFC 3339), `event`, `level`, and what belongs to the event, by name.
"""

import json
import sys
from datetime import UTC, datetime
from typing import Any, Literal, TypeAlias

Level: TypeAlias = Literal["info", "warning", "error"]


def note(event: str, level: Level = "info", **about: Any) -> None:
    """Write one line."""
    at = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    if sys.stderr.isatty():
        told = " ".join(f"{key}={value}" for key, value in about.items())
        line = f"{at[11:19]} {level}: {event}" + (f" {told}" if told else "")
    else:
        line = json.dumps({"at": at, "level": level, "event": event, **about}, ensure_ascii=False, default=str)
    print(line, file=sys.stderr, flush=True)
