"""The process that reads plans and keeps quotas: what becomes of its work when it, the disk or the gate fails."""

import os
import select
import signal
import socket
import sqlite3
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from wily_sluice.control import worker as worker_module
from wily_sluice.control.api.__main__ import run_api
from wily_sluice.control.link.link import Link
from wily_sluice.control.link.messages import Batch, Charge, Written
from wily_sluice.control.worker import Worker, _write
from wily_sluice.errors import LiveError
from wily_sluice.history.stores import QuotaStore
from wily_sluice.plan.file.bundle import Bundle, bundle_of
from wily_sluice.plan.model import Plan

HOST = bytes([10, 7, 1, 9])


@pytest.fixture
def worker(tmp_path: Path) -> Iterator[Worker]:
    made = Worker(tmp_path)
    yield made
    made.close()


def until(holds: Callable[[], object], worker: Worker, seconds: float = 15.0) -> None:
    deadline = time.monotonic() + seconds
    while not holds():
        assert time.monotonic() < deadline
        worker.tick()
        time.sleep(0.02)


@pytest.mark.filterwarnings("error::pytest.PytestUnhandledThreadExceptionWarning")
def test_when_the_gate_is_killed_what_is_beside_it_ends_without_a_word(tmp_path: Path) -> None:
    ours, theirs = socket.socketpair()
    Link(ours, Written).send(Batch(1, [Charge("month", "2027-03-01", HOST, 5)]))
    writer = threading.Thread(target=_write, args=(tmp_path, "run", theirs))
    writer.start()
    assert select.select([ours], (), (), 10)[0]
    ours.close()  # its answer is unread, so that the other end has a connection that was reset
    writer.join(10)
    assert not writer.is_alive()
    ours, theirs = socket.socketpair()
    ours.close()
    run_api(theirs.detach(), tmp_path, None)


def kept(folder: Path) -> dict[bytes, int]:
    store = QuotaStore(folder)
    try:
        return store.used("month", "2027-03-01")
    finally:
        store.close()


def test_when_the_gate_ends_while_nothing_can_be_written_the_writer_ends_too(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """However much the gate had still sent."""
    monkeypatch.setattr(worker_module, "AGAIN", 0.01)
    monkeypatch.setattr(worker_module, "TRIED_ALONE", 0.2)
    (tmp_path / "quotas.sqlite").mkdir()  # so that it cannot be opened
    ours, theirs = socket.socketpair()
    gate = Link(ours, Written)
    for number in (1, 2, 3):
        gate.send(Batch(number, [Charge("month", "2027-03-01", HOST, 5)]))
        time.sleep(0.05)
    writer = threading.Thread(target=_write, args=(tmp_path, "run", theirs))
    writer.start()
    time.sleep(0.2)
    assert writer.is_alive()
    gate.send(Batch(4, [Charge("month", "2027-03-01", HOST, 5)]))
    ours.close()
    writer.join(5)
    assert not writer.is_alive()


def test_a_store_that_cannot_be_used_leaves_no_file_open(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    QuotaStore(tmp_path).close()
    lock = sqlite3.connect(tmp_path / "quotas.sqlite")
    lock.execute("begin immediate")
    lock.execute("create table x (y)")
    opened, kept = len(list(Path("/proc/self/fd").iterdir())), []
    for _ in range(5):
        try:
            QuotaStore(tmp_path, patience=0.01)
        except sqlite3.OperationalError as error:
            kept.append(error)  # with what its traceback refers to
    assert len(kept) == 5 and len(list(Path("/proc/self/fd").iterdir())) <= opened + 1
    lock.close()


def test_plans_are_read_and_a_bad_one_is_refused_with_its_errors(worker: Worker, demo_plan: Plan) -> None:
    assert worker.examine(bundle_of(demo_plan)).site == demo_plan.site
    with pytest.raises(LiveError, match=r"error: "):
        worker.examine(Bundle(b"site: ["))


def test_a_killed_worker_is_replaced_and_all_that_was_used_is_counted_once(worker: Worker, tmp_path: Path) -> None:
    handed = 0
    for round_ in range(1, 41):
        assert worker.keep("month", "2027-03-01", {HOST: round_}) == {}
        handed += round_
        if round_ % 10 == 0:
            assert worker._process is not None and worker._process.pid is not None
            os.kill(worker._process.pid, signal.SIGKILL)
            worker._process.join()
            worker.tick()
    until(lambda: not worker._unwritten, worker)
    assert kept(tmp_path) == {HOST: handed}
    assert worker.used("month", "2027-03-01") == {HOST: handed}


def test_while_the_database_is_locked_nobody_waits_and_nothing_is_lost(worker: Worker, tmp_path: Path) -> None:
    worker.keep("month", "2027-03-01", {HOST: 1})
    until(lambda: not worker._unwritten, worker)
    locked = sqlite3.connect(tmp_path / "quotas.sqlite")
    locked.execute("begin exclusive")
    begun = time.monotonic()
    assert worker.keep("month", "2027-03-01", {HOST: 2}) == {}
    worker.tick()
    assert time.monotonic() - begun < 0.5
    with pytest.raises(LiveError, match="locked"):
        worker.used("month", "2027-03-01")
    locked.rollback()
    locked.close()
    until(lambda: not worker._unwritten, worker)
    assert kept(tmp_path) == {HOST: 3}


def test_however_much_is_handed_over_the_last_accounts_are_kept_like_the_first(worker: Worker, tmp_path: Path) -> None:
    left = {number.to_bytes(4): 1 for number in range(40_000)}
    while left:
        left = worker.keep("month", "2027-03-01", left)
        worker.tick()
    until(lambda: not worker._unwritten, worker, 60)
    assert len(kept(tmp_path)) == 40_000


def test_what_was_handed_over_is_written_though_the_gate_ends(tmp_path: Path) -> None:
    worker = Worker(tmp_path)
    worker.keep("month", "2027-03-01", {HOST: 7})
    worker.close()
    assert kept(tmp_path) == {HOST: 7}
