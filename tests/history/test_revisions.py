from pathlib import Path

import pytest

from wily_sluice.history.revisions import BACK_TO, RevisionStore
from wily_sluice.outside.files import load
from wily_sluice.plan.file.bundle import Bundle, bundle_of
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan

AT = "2027-03-01T10:00:00Z"


def test_what_is_kept_is_what_was_last_kept_and_comes_back_byte_for_byte(tmp_path: Path) -> None:
    store = RevisionStore(tmp_path)
    assert store.kept() is None
    first = store.record(Bundle(b"one"), AT, "orla", "at first", "kept")
    second = store.record(Bundle(b"two", {"a/b.txt": b"\x00\xff"}), AT, "orla", "")
    assert store.kept() == first
    store.end(second.number, "undone", AT, "its time was up")
    third = store.record(Bundle(b"two", {"a/b.txt": b"\x00\xff"}), AT, "niall", "again")
    store.keep(third.number, AT)
    store.close()
    store = RevisionStore(tmp_path)
    kept = store.kept()
    assert kept is not None
    assert (kept.number, kept.state, kept.digest) == (3, "kept", second.digest)
    assert store.bundle(3) == store.bundle(2) == Bundle(b"two", {"a/b.txt": b"\x00\xff"})
    assert store.kept_before(3) == first
    assert [one.state for one in store.revisions()] == ["kept", "undone", "kept"]
    assert store.bundle(4) is None


def test_whoever_goes_back_twice_is_two_back(tmp_path: Path) -> None:
    store = RevisionStore(tmp_path)
    for number in (1, 2, 3):
        store.record(Bundle(b"%d" % number), AT, "orla", "", "kept")
    back = []
    for number in (3, 4, 5):
        before = store.kept_before(number)
        back.append(before.number if before is not None else None)
        if before is not None:
            bundle = store.bundle(before.number)
            assert bundle is not None
            store.record(bundle, AT, "orla", f"{BACK_TO}{before.number}", "kept")
    assert back == [2, 1, None]
    store.record(Bundle(b"4"), AT, "orla", "back to work", "kept")  # a note of somebody's own leads nowhere
    after = store.kept_before(6)
    assert after is not None and after.number == 5


def test_equal_digests_are_equal_plans() -> None:
    bundles = [Bundle(b"a"), Bundle(b"a", {"": b""}), Bundle(b"", {"a": b""}), Bundle(b"", {"": b"a"}), Bundle(b"a\n")]
    assert len({bundle.digest for bundle in bundles}) == len(bundles)


def test_a_bundle_is_the_plan_wherever_its_files_lay(demo_plan: Plan, tmp_path: Path) -> None:
    bundle = bundle_of(demo_plan)
    assert list(bundle.files) == ["places.mmdb"]
    again = bundle.load()
    assert (again.rules, again.groups, again.trees) == (demo_plan.rules, demo_plan.groups, demo_plan.trees)
    (tmp_path / "deep").mkdir()
    outside = tmp_path / "hosts.txt"
    outside.write_text("10.7.0.9\n")
    text = (
        "site: X\nuplinks: {l: {interface: w, down: 9 Mbit/s, up: 9 Mbit/s}}\n"
        f"networks: {{n: {{interface: i, subnets: [10.7.0.0/24]}}}}\ngroups: {{g: {{file: {outside}}}}}\n"
        "trees: {t: {queues: {a: {}, b: {default: true}}}}\nrules: [{local: g, queue: a}]\n"
    )
    file = tmp_path / "deep" / "plan.yaml"
    file.write_text(text)
    plan = load(file)
    moved = bundle_of(plan)
    outside.unlink()
    assert moved.load().groups == plan.groups
    with pytest.raises(FileError, match=r"hosts\.txt"):
        load(file)
