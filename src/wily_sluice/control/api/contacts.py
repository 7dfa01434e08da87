"""Records the names that hosts contacted for as long as the plan says, and deletes them when it no longer does."""

import sqlite3
from collections.abc import Callable, Iterable
from ipaddress import ip_address
from pathlib import Path

from wily_sluice.control.log import note
from wily_sluice.history.contact_store import ContactStore, forget
from wily_sluice.units import Nanoseconds

WRITE_EVERY = 5  # seconds, when there is something to write
LOOK_EVERY = 60  # seconds, for what is past its time


class NameBook:
    """The names of one gate, in a folder. A plan on trial deletes nothing: only `keep` of a kept plan does."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._kept: Nanoseconds | None = None
        self._waiting: set[tuple[str, str]] = set()
        self._written = 0
        self._trouble = ""

    def keep(self, span: Nanoseconds | None, on_trial: bool) -> None:
        """For how long names are kept from now on; None for not at all."""
        self._kept = span
        if span is None:
            self._waiting.clear()
            if not on_trial:
                self._try(lambda: forget(self._folder))

    def add(self, at: int, visits: Iterable[tuple[bytes, str]]) -> None:
        """Add observations, and write them regularly."""
        if self._kept is None:
            return
        self._waiting.update((str(ip_address(host)), name) for host, name in visits)
        if not 0 <= at - self._written < (WRITE_EVERY if self._waiting else LOOK_EVERY):
            self.write(at)

    def write(self, at: int) -> None:
        """Write pending names, and delete expired ones."""
        kept = self._kept
        if kept is None:
            return
        self._written = at
        if self._try(lambda: self._add(at, kept)):
            self._waiting.clear()

    def _add(self, at: int, kept: Nanoseconds) -> None:
        store = ContactStore(self._folder)
        try:
            store.add(at, kept, self._waiting)
        finally:
            store.close()

    def _try(self, write: Callable[[], None]) -> bool:
        """Try an operation; a failure is logged once, until it succeeds again."""
        try:
            write()
        except (sqlite3.Error, OSError) as error:
            if str(error) != self._trouble:
                self._trouble = str(error)
                note("names.unwritten", "error", why=str(error))
            return False
        self._trouble = ""
        return True
