"""The log on standard error, a line for each event: words on a terminal, otherwise JSON.

A line has `at` (RFC 3339), `event`, `level`, and what belongs to the event, by name.
"""

import json
import logging
import sys
from typing import Any, Final, Literal, TextIO, TypeAlias

from wily_sluice.units import iso_time

Level: TypeAlias = Literal["info", "warning", "error"]
LEVELS: Final[dict[Level, int]] = {"info": logging.INFO, "warning": logging.WARNING, "error": logging.ERROR}


class Line(logging.Formatter):
    """One line for a record, whose message is the event and whose `about` is what belongs to it."""

    def format(self, record: logging.LogRecord) -> str:
        """In words where the standard error is a terminal, else as JSON."""
        at = iso_time(record.created, precision="milliseconds")
        about: dict[str, Any] = getattr(record, "about", {})
        level, event = record.levelname.lower(), record.getMessage()
        if sys.stderr.isatty():
            words = " ".join(f"{key}={value}" for key, value in about.items())
            return f"{at[11:19]} {level}: {event}" + (f" {words}" if words else "")
        return json.dumps({"at": at, "level": level, "event": event, **about}, ensure_ascii=False, default=str)


class StandardError(logging.StreamHandler[TextIO]):
    """Writes to standard error, even if it is redirected later."""

    def emit(self, record: logging.LogRecord) -> None:
        """Write one record."""
        self.stream = sys.stderr
        super().emit(record)


logging.raiseExceptions = False  # a log that cannot be written must end nothing
_log = logging.getLogger("sluice")
_log.setLevel(logging.INFO)
_log.propagate = False
_handler = StandardError()
_handler.setFormatter(Line())
_log.addHandler(_handler)


def note(event: str, level: Level = "info", **about: Any) -> None:
    """Write one line."""
    _log.log(LEVELS[level], event, extra={"about": about})
