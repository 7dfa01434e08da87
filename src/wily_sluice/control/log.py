"""The log on standard error, a line for each event: words on a terminal, otherwise JSON.

A line has `at` (RFC 3339), `event`, `level`, and what belongs to the event, by name. The gate does not wait for the
reader of the log: lines that there is no room for are left out, and counted when there is room again (`log.lost`).
"""

import json
import logging
import select
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
    """Writes to standard error, even if it is redirected later, as long as it takes a line at once."""

    lost = 0

    def emit(self, record: logging.LogRecord) -> None:
        """Write one record, or none."""
        self.stream = sys.stderr
        if not _has_room(self.stream):
            self.lost += 1
            return
        if self.lost:
            lost, self.lost = self.lost, 0
            gap = logging.LogRecord(record.name, logging.WARNING, "", 0, "log.lost", (), None)
            gap.about = {"lines": lost}
            super().emit(gap)
        super().emit(record)


def _has_room(stream: TextIO) -> bool:
    """Whether a line can be written without waiting: a pipe then has room for a page, and lines are shorter."""
    try:
        poll = select.poll()
        poll.register(stream.fileno(), select.POLLOUT)
        return bool(poll.poll(0))
    except (OSError, ValueError, AttributeError):  # it is in memory, or closed: nothing waits there
        return True


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
