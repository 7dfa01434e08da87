"""Edits of a plan file on disk: one at a time, complete or not at all, and recorded for undo.

During an edit, its folder is locked (flock), so that edits follow each other. The new file is written in the same
folder and replaces the old one in one step; a failure before that leaves the old one. The target of a symbolic link is
edited, not the link. Edits are stored in the user's state folder, the last MOST_KEPT of each file.
"""

import fcntl
import os
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

from platformdirs import user_state_path

from wily_sluice.errors import SluiceError
from wily_sluice.outside.files import STANDARD_INPUT, DiskFile
from wily_sluice.plan.file.source import Source
from wily_sluice.units import Size

MOST_KEPT = 200  # edits of one file
PATIENCE = 10.0  # seconds that one edit waits for another
_SWAP_FILES = (".{}.swp", ".#{}", ".~lock.{}#")  # by which editors mark a file as open


class CannotEditError(SluiceError):
    """The file cannot be edited here and now: the message says why, and what would help."""


class TextFile(Source):
    """A file with another content than it has on the disk, and with the same neighbours."""

    def __init__(self, path: Path, content: bytes) -> None:
        super().__init__(str(path))
        self._content, self._disk = content, DiskFile(path)

    def read(self, limit: Size) -> bytes:
        """Its first bytes, up to a limit."""
        return self._content[:limit]

    def beside(self, name: str) -> DiskFile:
        """The file of this name, relative to the folder that this one is in."""
        return self._disk.beside(name)


class Edit(NamedTuple):
    """A completed edit: its time (seconds since the epoch), its description, and the file before and after."""

    number: int
    at: float
    words: str
    before: bytes
    after: bytes


class History:
    """All edits that were made by this person, in SQLite."""

    def __init__(self, folder: Path | None = None) -> None:
        folder = folder or user_state_path("wily-sluice", ensure_exists=True)
        try:
            file = folder / "edits.sqlite"  # of plans that others may not read
            os.close(os.open(file, os.O_RDWR | os.O_CREAT, 0o600))
            if file.stat().st_mode & 0o077:
                file.chmod(0o600)
            self._base = sqlite3.connect(file, timeout=PATIENCE)
            self._base.execute(
                "CREATE TABLE IF NOT EXISTS edits (number INTEGER PRIMARY KEY AUTOINCREMENT, file TEXT, at REAL,"
                " words TEXT, before BLOB, after BLOB)"
            )
        except (sqlite3.Error, OSError) as error:
            raise CannotEditError(
                f"edits cannot be recorded in {folder}, so they could not be undone: {error}"
            ) from None

    def close(self) -> None:
        """Close the file."""
        self._base.close()

    def add(self, file: Path, words: str, before: bytes, after: bytes) -> int:
        """Remember an edit; its number."""
        with self._base:
            row = self._base.execute(
                "INSERT INTO edits (file, at, words, before, after) VALUES (?, ?, ?, ?, ?)",
                (str(file), time.time(), words, before, after),
            )
            self._base.execute(
                "DELETE FROM edits WHERE file = ? AND number NOT IN"
                " (SELECT number FROM edits WHERE file = ? ORDER BY number DESC LIMIT ?)",
                (str(file), str(file), MOST_KEPT),
            )
        return int(row.lastrowid or 0)

    def forget(self, number: int) -> None:
        """As if an edit had not been made."""
        with self._base:
            self._base.execute("DELETE FROM edits WHERE number = ?", (number,))

    def of(self, file: Path) -> list[Edit]:
        """Those of a file, the last first."""
        rows = self._base.execute(
            "SELECT number, at, words, before, after FROM edits WHERE file = ? ORDER BY number DESC", (str(file),)
        )
        return [Edit(*row) for row in rows]


class Held:
    """A file whose folder is locked: its content, and the one way to change it."""

    def __init__(self, path: Path, history: History) -> None:
        self.path, self._history = path, history
        self.content = path.read_bytes()

    def write(self, content: bytes, words: str) -> None:
        """Replace the content, and record the edit. CannotEditError if the file has changed since; OSError."""
        number = self._history.add(self.path, words, self.content, content)
        try:
            self._replace(content)
        except BaseException:
            self._history.forget(number)
            raise

    def undo(self) -> Edit:
        """Undo the last edit. CannotEditError if there is none, or another program has changed the file."""
        for edit in self._history.of(self.path):
            if edit.after == self.content:
                self._replace(edit.before)
                self._history.forget(edit.number)
                return edit
            if edit.before != self.content:
                raise CannotEditError(
                    f"{self.path} has been changed by something else since the last edit: nothing was undone"
                )
            self._history.forget(edit.number)  # it was remembered, and then something ended the program
        raise CannotEditError(f"no edit of {self.path} is left to undo")

    def _replace(self, content: bytes) -> None:
        if self.path.read_bytes() != self.content:
            raise CannotEditError(f"{self.path} was changed by another program: nothing was written")
        handle, name = tempfile.mkstemp(prefix=f".{self.path.name}.", dir=self.path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(content)
                file.flush()
                os.fsync(file.fileno())
            status = self.path.stat()
            Path(name).chmod(status.st_mode & 0o7777)
            with suppress(PermissionError):
                os.chown(name, status.st_uid, status.st_gid)
            Path(name).replace(self.path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
        self.content = content


@contextmanager
def held(path: Path, force: bool = False) -> Iterator[Held]:
    """A file to edit, while no other edit in its folder can go on. CannotEditError when that cannot be."""
    if path == STANDARD_INPUT:
        raise CannotEditError("the standard input cannot be edited: name a file")
    try:
        real = path.resolve(strict=True)
        for pattern in _SWAP_FILES:
            swap = real.with_name(pattern.format(real.name))
            if not force and (swap.exists() or swap.is_symlink()):
                raise CannotEditError(f"an editor has {path} open, by {swap.name}: close it, or use --force")
        folder = os.open(real.parent, os.O_RDONLY | os.O_DIRECTORY)
    except OSError as error:
        raise CannotEditError(f"{path} cannot be edited: {error.strerror}") from None
    try:
        _lock(folder, path)
        with closing(History()) as history:
            try:
                yield Held(real, history)
            except OSError as error:
                raise CannotEditError(f"{path} cannot be written: {error.strerror}; it is as it was") from None
    finally:
        os.close(folder)


def _lock(folder: int, path: Path) -> None:
    until = time.monotonic() + PATIENCE
    while True:
        try:
            fcntl.flock(folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            if time.monotonic() > until:
                raise CannotEditError(f"another edit of {path} has not ended for {PATIENCE:.0f} s") from None
            time.sleep(0.02)
        else:
            return
