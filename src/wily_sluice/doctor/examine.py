"""All checks of a machine, and the changes that are safe.

Makes safe changes, and undoes them: a journal has the previous content of each kernel file.

A change lasts until a reboot; the user is told how to make it permanent. The files belong to one network namespace, so
a journal is only for the namespace that it was begun in.
"""

import json
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from wily_sluice.doctor import features, links, machine, routing
from wily_sluice.doctor.check import Change, Check, Facts, Found
from wily_sluice.errors import SluiceError
from wily_sluice.plan.model import Plan

CHECKS: Final = (*links.CHECKS, *routing.CHECKS, *machine.CHECKS)


@dataclass(frozen=True, slots=True)
class Complaint:
    """A problem that was found, and its place."""

    ailment: Check
    found: Found


def examine(plan: Plan, facts: Facts) -> list[Complaint]:
    """All problems, errors first."""
    complaints = [Complaint(ailment, problem) for ailment in CHECKS for problem in ailment.find(plan, facts)]
    return sorted(complaints, key=lambda complaint: complaint.ailment.severity != "error")


JOURNAL: Final = "doctor.json"


class FixError(SluiceError):
    """A change cannot be made, or not be undone."""


def _write(path: str, value: str) -> None:
    try:
        if path.startswith(features.PREFIX):
            features.write(path, value)
        else:
            Path(path).write_text(value)
    except OSError as error:
        raise FixError(f"{path} cannot be written: {error.strerror}; be root, and see who else keeps it") from error


def _read(path: str) -> str:
    try:
        return features.read(path) if path.startswith(features.PREFIX) else Path(path).read_text().strip()
    except OSError as error:
        raise FixError(f"{path} cannot be read: {error.strerror}") from error


class Journal:
    """The journal of changes in the state folder; `save` writes a private file there. `place` identifies the network
    namespace.
    """

    def __init__(self, state: Path, save: Callable[[Path, str], None], place: str = "") -> None:
        self._file = state / JOURNAL
        self._replace = save
        self._place = place

    def _save(self, before: dict[str, str]) -> None:
        self._replace(self._file, json.dumps({"place": self._place, "before": before}, indent=2) + "\n")

    def read(self) -> dict[str, str]:
        """The previous content of each changed file. FixError if the journal cannot be read."""
        try:
            text = self._file.read_text()
        except FileNotFoundError:
            return {}
        except OSError as error:
            raise FixError(f"{self._file} cannot be read: {error.strerror}") from error
        try:
            content = json.loads(text)
            before = {str(path): str(value) for path, value in content["before"].items()}
            place = content["place"]
        except (ValueError, KeyError, AttributeError, TypeError):
            raise FixError(f"{self._file} is not a journal of changes: set it aside") from None
        if place != self._place:
            raise FixError(f"{self._file} is of another network namespace: use another --state, or set it aside")
        return before

    def fix(self, changes: Iterable[Change]) -> list[Change]:
        """Make these changes; returns those that were made. The previous contents are saved first."""
        before, made = self.read(), []
        for change in changes:
            was = _read(change.path)
            if was == change.value:
                continue
            before.setdefault(change.path, was)
            self._save(before)
            _write(change.path, change.value)
            made.append(change)
        return made

    def undo(self) -> list[Change]:
        """Undo all that was changed, the last first; those that were."""
        before, undone = self.read(), []
        for path, was in reversed(list(before.items())):
            if path.startswith(features.PREFIX) or Path(path).exists():
                _write(path, was)
                undone.append(Change(path, was))
            del before[path]
            self._save(before)
        if not before:
            self._file.unlink(missing_ok=True)
        return undone
