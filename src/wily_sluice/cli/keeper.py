"""Keeps quotas for a running gate in a process of its own, so that no packet ever waits for a disk."""

import pickle
import signal
import socket
import sqlite3
import sys
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from multiprocessing import get_context
from pathlib import Path

from wily_sluice.gate.errors import LiveError
from wily_sluice.history.quota_store import QuotaStore
from wily_sluice.units import Size

LARGEST_MESSAGE = 1 << 17  # bytes
A_MESSAGE = 500  # accounts that are sent together


class QuotaKeeper:
    """What a gate hands its counters to."""

    def __init__(self, folder: Path, paper: socket.socket) -> None:
        self._folder = folder
        self._paper = paper

    def used(self, limiter: str, period: str) -> dict[bytes, Size]:
        """What each account of a limiter had used of a period, when it was last kept; nothing if that is lost."""
        try:
            store = QuotaStore(self._folder)
            found = store.used(limiter, period)
            store.close()
        except (OSError, sqlite3.Error) as error:
            print(f"quotas in {self._folder} cannot be read, and begin anew: {error}", file=sys.stderr)
            return {}
        return found

    def keep(self, limiter: str, period: str, used: dict[bytes, Size]) -> bool:
        """Send it to the process that writes; False when that is behind."""
        rows = [(limiter, period, key, size) for key, size in used.items()]
        try:
            for first in range(0, len(rows), A_MESSAGE):
                self._paper.send(pickle.dumps(rows[first : first + A_MESSAGE]))
        except OSError:
            return False
        return True


@contextmanager
def quota_keeper(folder: Path) -> Iterator[QuotaKeeper]:
    """A keeper, with its process. LiveError when the folder cannot be written to."""
    try:
        QuotaStore(folder).close()
    except (OSError, sqlite3.Error) as error:
        raise LiveError(f"quotas cannot be kept in {folder}: {error}; give another folder with --state") from None
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
    here.setblocking(False)
    process = get_context("fork").Process(target=_write, args=(folder, there, here), daemon=True)
    process.start()
    there.close()
    try:
        yield QuotaKeeper(folder, here)
    finally:
        here.close()
        process.join(timeout=5)


def _write(folder: Path, source: socket.socket, other_end: socket.socket) -> None:
    other_end.close()
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_IGN)  # it ends when the gate does, when it has written what was sent
    store = QuotaStore(folder)
    failed = False
    while message := source.recv(LARGEST_MESSAGE):
        try:
            store.keep(pickle.loads(message))
            failed = False
        except sqlite3.Error as error:
            if not failed:
                print(f"quotas in {folder} cannot be written: {error}", file=sys.stderr, flush=True)
            failed = True
    with suppress(sqlite3.Error):
        store.close()
