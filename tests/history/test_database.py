"""Databases of earlier and of later programs."""

import shutil
import sqlite3
from pathlib import Path

import pytest

from wily_sluice.history.counter_store import CounterStore
from wily_sluice.history.counts import Counts, Key
from wily_sluice.history.database import COUNTERS, PLANS, QUOTAS, NewerDatabase, version_of
from wily_sluice.history.revisions import MOST_REVISIONS, RevisionStore
from wily_sluice.history.stores import QuotaStore
from wily_sluice.plan.file.bundle import Bundle

QUOTA = "create table quota (limiter text, period text, key blob, used integer, primary key (limiter, period, key))"


def test_what_an_earlier_program_kept_is_taken_over_under_the_names_of_now(tmp_path: Path) -> None:
    old = sqlite3.connect(tmp_path / "counters.sqlite")  # which held quotas
    old.execute("pragma journal_mode = wal")
    old.execute(QUOTA)
    old.execute("insert into quota values ('month', '2027-03-01', x'0a070109', 5000)")
    old.commit()
    old.close()
    before = CounterStore(tmp_path / "elsewhere")
    before.add(1_800_000_000, {Key("queue", "line", "up", "rest"): Counts(bytes=7)})
    before.close()
    (tmp_path / "elsewhere" / COUNTERS).rename(tmp_path / "history.sqlite")
    counters = CounterStore(tmp_path)
    found = dict(counters.read("hour", 0, 1 << 40))
    assert [sample.bytes for samples in found.values() for sample in samples.values()] == [7]
    quotas = QuotaStore(tmp_path)
    assert quotas.used("month", "2027-03-01") == {bytes([10, 7, 1, 9]): 5000}
    quotas.add("run", 1, [("month", "2027-03-01", bytes([10, 7, 1, 9]), 10)])
    assert quotas.used("month", "2027-03-01") == {bytes([10, 7, 1, 9]): 5010}
    assert not (tmp_path / "history.sqlite").exists() and (tmp_path / QUOTAS).exists()


def test_a_database_of_a_later_program_is_refused_with_a_sentence_and_left_as_it_is(tmp_path: Path) -> None:
    RevisionStore(tmp_path).close()
    database = sqlite3.connect(tmp_path / PLANS)
    assert version_of(database) == 1
    database.execute("update schema_version set version = 9")
    database.commit()
    database.close()
    before = (tmp_path / PLANS).read_bytes()
    with pytest.raises(NewerDatabase, match=r"newer version of the program \(schema 9; this one knows 1\): install"):
        RevisionStore(tmp_path)
    assert (tmp_path / PLANS).read_bytes() == before


@pytest.mark.parametrize("replaced", [False, True])
def test_nothing_is_kept_in_a_file_that_was_deleted(tmp_path: Path, replaced: bool) -> None:
    state = tmp_path / "state"
    revisions = RevisionStore(state)
    first = revisions.record(Bundle(b"site: x"), "2027-01-01T00:00:00Z", "anna", "", "kept")
    shutil.rmtree(state)
    if replaced:
        RevisionStore(state)
    with pytest.raises(sqlite3.OperationalError, match=r"plans\.sqlite was deleted or replaced: restart the gate"):
        revisions.record(Bundle(b"site: y"), "2027-01-01T00:00:01Z", "anna", "", "kept")
    with pytest.raises(sqlite3.OperationalError, match="deleted or replaced"):
        revisions.keep(first.number, "2027-01-01T00:00:02Z")


def test_old_revisions_go_and_the_one_that_is_kept_stays(tmp_path: Path) -> None:
    store = RevisionStore(tmp_path)
    store.record(Bundle(b"kept", {"a": b"file"}), "2027-03-01T00:00:00Z", "root", "", "kept")
    for number in range(MOST_REVISIONS + 20):
        store.record(Bundle(b"%d" % number, {"a": b"%d" % number}), "2027-03-01T00:00:00Z", "root", "")
    found = store.revisions()
    assert len(found) == MOST_REVISIONS + 1
    kept = store.kept()
    assert kept is not None and kept.number == found[-1].number == 1
    assert store.bundle(1) == Bundle(b"kept", {"a": b"file"})
    database = sqlite3.connect(tmp_path / PLANS)
    contents = {content for (content,) in database.execute("select bytes from content")}
    assert b"5" not in contents and b"519" in contents and b"file" in contents
    store.close()
