"""The databases of a state folder: private files, each with a schema that is updated when opened.

| file | contents |
| --- | --- |
| `plans.sqlite` | revisions of the plan |
| `counters.sqlite` | counters |
| `quotas.sqlite` | use of quotas |
| `contacts.sqlite` | names that hosts contacted |
| `measurements.sqlite` | measurements of lines |
| `events.sqlite` | events of uplinks, routes, mappings and chains |

A schema is a list of steps; the table `schema_version` has the number of steps done. A database from a newer program is
refused, and left unchanged.
"""

import fcntl
import os
import sqlite3
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Self

from wily_sluice.errors import LiveError

FOLDER_MODE, FILE_MODE = 0o700, 0o600
PLANS, COUNTERS, QUOTAS, CONTACTS = "plans.sqlite", "counters.sqlite", "quotas.sqlite", "contacts.sqlite"
MEASUREMENTS, EVENTS = "measurements.sqlite", "events.sqlite"
OLD_COUNTERS, OLD_QUOTAS = "history.sqlite", "counters.sqlite"  # as they were once called


class NewerDatabase(sqlite3.DatabaseError):
    """A newer version of the program has written it."""


class PresentConnection(sqlite3.Connection):
    """A connection that begins a transaction only while its file is still where it was opened. SQLite itself would
    continue to write to one that was deleted.
    """

    place: Path
    opened: tuple[int, int]

    def __enter__(self) -> Self:
        try:
            now = _identity(self.place)
        except OSError:
            now = None
        if now != self.opened:
            raise sqlite3.OperationalError(f"{self.place} was deleted or replaced: restart the gate to begin a new one")
        return super().__enter__()


def _identity(path: Path) -> tuple[int, int]:
    status = path.stat()
    return status.st_dev, status.st_ino


def private_folder(folder: Path) -> None:
    """Make a folder that only its owner may read, with those above it; one that is there is closed if it is a gate's.

    OSError when it cannot be made.
    """
    if not folder.is_dir():
        folder.parent.mkdir(parents=True, exist_ok=True)
        folder.mkdir(mode=FOLDER_MODE, exist_ok=True)
        folder.chmod(FOLDER_MODE)
    elif (folder / PLANS).exists() and folder.stat().st_uid == os.geteuid() and folder.stat().st_mode & 0o077:
        folder.chmod(FOLDER_MODE)


def private_file(path: Path) -> None:
    """Make a file that only its owner may read, or close one that is there. OSError when that cannot be.

    One that is there is not opened: to close it again would end the locks that this process has on it (fcntl(2)).
    """
    try:
        os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, FILE_MODE))
    except FileExistsError:
        if path.stat().st_mode & 0o077:
            path.chmod(FILE_MODE)


def open_database(
    path: Path, steps: Sequence[str], patience: float, pragmas: Sequence[str] = (), check_same_thread: bool = True
) -> sqlite3.Connection:
    """A database in a private file in a private folder, both created if necessary, with the schema of `steps`.

    OSError or sqlite3.Error on failure, including NewerDatabase.
    """
    private_folder(path.parent)
    _rename(path.parent)
    private_file(path)  # what SQLite puts beside it has the same mode
    database = sqlite3.connect(path, timeout=patience, check_same_thread=check_same_thread, factory=PresentConnection)
    with closed_on_failure(database):
        database.place, database.opened = path, _identity(path)
        for pragma in pragmas:
            database.execute(f"pragma {pragma}")
        _bring_up(database, path, steps)
    return database


@contextmanager
def closed_on_failure(database: sqlite3.Connection) -> Iterator[None]:
    """Close a database if the context fails: its files would stay open for as long as the error."""
    try:
        yield
    except BaseException:
        database.close()
        raise


def open_to_read(path: Path) -> sqlite3.Connection:
    """A database that is there, on a disk that may be full or read-only. sqlite3.Error if it cannot be read."""
    for options in ("mode=ro", "mode=ro&immutable=1"):  # the second without what was written last, if that was cut off
        database = sqlite3.connect(f"{path.absolute().as_uri()}?{options}", uri=True)
        try:
            version_of(database)
            database.execute("select count(*) from sqlite_master").fetchone()
            return database
        except sqlite3.Error as error:
            database.close()
            problem = error
    raise problem


def _bring_up(database: sqlite3.Connection, path: Path, steps: Sequence[str]) -> None:
    version = version_of(database)
    if version > len(steps):
        raise NewerDatabase(
            f"{path} was written by a newer version of the program (schema {version}; this one knows {len(steps)}): "
            "install that version again, or move the file away"
        )
    for number, step in enumerate(steps[version:], version + 1):
        # A script commits what is open, so the step and its number are written in one transaction of their own.
        database.executescript(
            f"begin immediate; {step};"
            "create table if not exists schema_version (one integer primary key check (one = 1), version integer);"
            f"insert or replace into schema_version values (1, {number}); commit"
        )


def version_of(database: sqlite3.Connection) -> int:
    """How far a database has come; 0 for one without a schema, or of a program that did not say."""
    try:
        with closing(database.execute("select version from schema_version")) as rows:
            row = rows.fetchone()
    except sqlite3.OperationalError as error:
        if "no such table" not in str(error):
            raise
        return 0
    return int(row[0]) if row is not None else 0


def _rename(folder: Path) -> None:
    """Rename files of an earlier version of the program."""
    if (folder / OLD_QUOTAS).exists() and not (folder / QUOTAS).exists() and _holds(folder / OLD_QUOTAS, "quota"):
        _move(folder / OLD_QUOTAS, folder / QUOTAS)
    if (folder / OLD_COUNTERS).exists() and not (folder / COUNTERS).exists():
        _move(folder / OLD_COUNTERS, folder / COUNTERS)


def _holds(path: Path, table: str) -> bool:
    with closing(sqlite3.connect(path, timeout=1)) as database:
        row = database.execute("select 1 from sqlite_master where type = 'table' and name = ?", (table,)).fetchone()
    return row is not None


def _move(old: Path, new: Path) -> None:
    with closing(sqlite3.connect(old, timeout=1)) as database:
        database.execute("pragma wal_checkpoint(truncate)")  # what was written ahead belongs into the file
        database.execute("pragma journal_mode = delete")
    old.rename(new)


PATIENCE = 3.0  # seconds: what belonged to a killed gate ends soon, and may have the folder open until then


@contextmanager
def occupied(state: Path) -> Iterator[None]:
    """Hold the folder while the context lasts. LiveError when another gate has it.

    A folder that cannot be made or opened is not held; writing to it will fail later.
    """
    folder = -1
    with suppress(OSError):
        private_folder(state)
        folder = os.open(state, os.O_RDONLY | os.O_DIRECTORY)
    try:
        if folder >= 0:
            _wait_for(folder, state)
        yield
    finally:
        if folder >= 0:
            os.close(folder)


def _wait_for(folder: int, state: Path) -> None:
    deadline = time.monotonic() + PATIENCE
    while True:
        try:
            fcntl.flock(folder, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            if time.monotonic() >= deadline:
                problem = f"another gate, here or in another network namespace, already keeps its history in {state}"
                raise LiveError(f"{problem}: stop it, or give this one its own folder with --state") from None
            time.sleep(0.1)
