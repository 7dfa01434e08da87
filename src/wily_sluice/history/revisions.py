"""Every plan of a gate, in SQLite: its time, user and outcome, and which one is kept.

A change is on disk before the call returns (`synchronous = full`), or not made at all: a crash leaves the history as it
was before or after a call. Equal contents of plans and files are stored once. Revisions are numbered from 1; the next
gate starts with the kept one.

The newest MOST_REVISIONS stay, and the kept one; older ones, and contents that only they had, are deleted when another
is added.
"""

from collections.abc import Iterable
from contextlib import closing
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Literal, TypeAlias

from wily_sluice.history.database import PLANS, open_database, open_to_read
from wily_sluice.plan.file.bundle import Bundle

State: TypeAlias = Literal["trial", "kept", "undone", "refused"]

_SCHEMA = (
    """
    create table if not exists content (digest text primary key, bytes blob not null) without rowid;
    create table if not exists revision (
        number integer primary key autoincrement, at text not null, who text not null, note text not null,
        digest text not null, plan text not null references content, state text not null,
        ended text, why text not null default ''
    );
    create table if not exists file (
        revision integer not null references revision, name text not null, digest text not null references content,
        primary key (revision, name)
    ) without rowid;
    create table if not exists kept (one integer primary key check (one = 1), revision integer not null)
    """,
)
MOST_REVISIONS = 500


@dataclass(frozen=True, slots=True)
class Revision:
    """`at` and `ended` are moments of UTC in ISO 8601; `why` says why a trial ended, in words."""

    number: int
    at: str
    who: str
    note: str
    digest: str
    state: State
    ended: str | None = None
    why: str = ""


BACK_TO = "back to revision "  # what the note of a revision that goes back begins with
_COLUMNS = "number, at, who, note, digest, state, ended, why"


class RevisionStore:
    """A database in a folder, made where there is none. OSError or sqlite3.Error when it cannot be, or is locked.

    To be `read_only`, it need not be writable, nor its disk have room.
    """

    def __init__(self, folder: Path, patience: float = 2.0, read_only: bool = False) -> None:
        self.path = folder / PLANS
        if read_only:
            self._database = open_to_read(self.path)
            return
        pragmas = ("journal_mode = wal", "synchronous = full")
        self._database = open_database(self.path, _SCHEMA, patience, pragmas, check_same_thread=False)

    def record(self, bundle: Bundle, at: str, who: str, note: str, state: State = "trial") -> Revision:
        """A new revision."""
        with self._database:
            plan = self._content(bundle.plan)
            number = self._database.execute(
                "insert into revision (at, who, note, digest, plan, state) values (?, ?, ?, ?, ?, ?)",
                (at, who, note, bundle.digest, plan, state),
            ).lastrowid
            self._database.executemany(
                "insert into file values (?, ?, ?)",
                [(number, name, self._content(content)) for name, content in bundle.files.items()],
            )
            if state == "kept":
                self._database.execute("insert or replace into kept values (1, ?)", (number,))
            assert number is not None
            self._prune(number - MOST_REVISIONS)
        return Revision(number, at, who, note, bundle.digest, state)

    def _prune(self, last: int) -> None:
        """Delete the revisions up to the last of these, except the kept one."""
        old = "number <= ? and number not in (select revision from kept)"
        if self._database.execute(f"select 1 from revision where {old} limit 1", (last,)).fetchone() is None:
            return
        self._database.execute(f"delete from file where revision in (select number from revision where {old})", (last,))
        self._database.execute(f"delete from revision where {old}", (last,))
        self._database.execute(
            "delete from content where digest not in (select plan from revision union select digest from file)"
        )

    def _content(self, content: bytes) -> str:
        digest = sha256(content).hexdigest()
        self._database.execute("insert or ignore into content values (?, ?)", (digest, content))
        return digest

    def keep(self, number: int, at: str) -> None:
        """Record a revision as kept."""
        with self._database:
            self._database.execute(
                "update revision set state = 'kept', ended = ? where number = ? and state = 'trial'", (at, number)
            )
            self._database.execute("insert or replace into kept values (1, ?)", (number,))

    def end(self, number: int, state: State, at: str, why: str) -> None:
        """Note that a trial has ended."""
        with self._database:
            self._database.execute(
                "update revision set state = ?, ended = ?, why = ? where number = ? and state = 'trial'",
                (state, at, why, number),
            )

    def end_trials(self, but: int | None, at: str, why: str) -> None:
        """Note that all trials have ended but that of one revision."""
        with self._database:
            self._database.execute(
                "update revision set state = 'undone', ended = ?, why = ? where state = 'trial' and number is not ?",
                (at, why, but),
            )

    def kept(self) -> Revision | None:
        """What starts next time."""
        return self._one("number = (select revision from kept)")

    def revision(self, number: int) -> Revision | None:
        """One of them."""
        return self._one("number = ?", number)

    def kept_before(self, number: int) -> Revision | None:
        """The last revision that was kept before another, and had other contents.

        A revision that returned to an earlier one counts as that, so two undos go back by two.
        """
        while (revision := self.revision(number)) is not None and revision.note.startswith(BACK_TO):
            earlier = revision.note.removeprefix(BACK_TO)
            if not earlier.isdigit() or int(earlier) >= number:
                break
            number = int(earlier)
        return self._one(
            "state = 'kept' and number < ?1 and digest != (select digest from revision where number = ?1) "
            "order by number desc limit 1",
            number,
        )

    def _one(self, where: str, *values: object) -> Revision | None:
        rows = self._database.execute(f"select {_COLUMNS} from revision where {where}", values)
        with closing(rows):
            row = rows.fetchone()
        return Revision(*row) if row is not None else None

    def revisions(self, limit: int = -1) -> list[Revision]:
        """The newest first; all, or up to a number."""
        rows = self._database.execute(f"select {_COLUMNS} from revision order by number desc limit ?", (limit,))
        with closing(rows):
            return [Revision(*row) for row in rows]

    def bundle(self, number: int) -> Bundle | None:
        """The plan of a revision with its files."""
        plan = self._bytes("select bytes from content join revision on plan = content.digest where number = ?", number)
        if not plan:
            return None
        named: Iterable[tuple[str, bytes]] = self._database.execute(
            "select name, bytes from file join content on file.digest = content.digest where revision = ?", (number,)
        )
        return Bundle(plan[0], dict(named))

    def _bytes(self, query: str, number: int) -> list[bytes]:
        return [row[0] for row in self._database.execute(query, (number,))]

    def close(self) -> None:
        """Close the database."""
        self._database.close()
