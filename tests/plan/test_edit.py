import errno
import os
import re
import tempfile
from collections import Counter
from pathlib import Path
from threading import Thread
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import drawings
from wily_sluice import examples
from wily_sluice.outside.plan_edits import CannotEditError, TextFile, held
from wily_sluice.plan.edit.edits import Edits
from wily_sluice.plan.edit.operations import EditError, Insert, Move, Operation, Remove, Rename, Set
from wily_sluice.plan.edit.references import IN_ORDER, SECTIONS
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.file.yaml_text import parse
from wily_sluice.plan.read import examine

DEMO = examples.folder() / examples.PLAN
COMMENT = re.compile(r"(?:^|\s)#.*$", re.MULTILINE)
VALUES: dict[str, dict[str, Any]] = {
    "uplink": {"headroom": "9%"},
    "network": {"interface": "lan77"},
    "group": {"members": ["10.61.0.99"]},
    "schedule": {"windows": ["mon 07:00-08:00"]},
    "queue": {"weight": 3},
    "limiter": {"down": "7 Mbit/s", "engage": "above 80%"},
    "rule": {"mark": "CS1", "dscp": None},
    "service": {"about": "a game, and: more"},
    "tunnel": {"remote": "203.0.113.21"},
    "route": {"else": "mobile"},
    "mapping": {"count": 3},
}
ROUTES = """routes:
  - {name: Records, remote: 198.51.100.0/24, uplink: office}   # patients'
  # What may take either.
  - {local: flat, uplinks: {fibre: 3, mobile: 1}}
"""
MORE = """
tunnels:
  office: {interface: vpn0, uplink: fibre, wrapping: vxlan, remote: 203.0.113.20}   # to the other practice
mappings:
  - {name: Play, local: scanner, port: 3000-3009}   # for the break
"""


@pytest.fixture(autouse=True)
def own_history(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))


def data_of(text: str) -> dict[str, Any]:
    data: dict[str, Any] = parse(text)[0]
    return data


def with_more() -> str:
    """The demo's plan with a part of every kind, and comments."""
    head, routes, rest = DEMO.read_text().partition("routes:")
    assert routes
    return head + ROUTES + rest.partition("\n")[2] + MORE


def drawn_edit(draw: st.DataObject, text: str, number: int) -> list[Operation]:
    """Some edit that is possible; its kind, the part and the rest are drawn."""
    edits = Edits(data_of(text))
    kind = draw.draw(st.sampled_from([one for one in SECTIONS if one != "host" and edits.names(one)]))
    name = draw.draw(st.sampled_from(edits.names(kind)))
    values = dict(VALUES[kind])
    action = draw.draw(st.sampled_from(("set", "rename", "copy", "remove", "move", "switch")))
    if action == "move":
        kind = draw.draw(st.sampled_from([one for one in IN_ORDER if edits.names(one)]))
        names = edits.names(kind)
        return edits.move(kind, draw.draw(st.sampled_from(names)), ("to", str(draw.draw(st.integers(1, len(names))))))
    if action == "switch":
        kind = draw.draw(st.sampled_from([one for one in (*IN_ORDER, "limiter") if edits.names(one)]))
        return edits.switch(kind, draw.draw(st.sampled_from(edits.names(kind))), draw.draw(st.booleans()))
    if action == "rename":
        return edits.rename(kind, name, f"other-{number}")
    if action == "remove":
        return edits.remove(kind, name)
    if action == "copy":
        return edits.copy(kind, name, f"copy-{number}", {k: v for k, v in values.items() if v is not None})
    return edits.set(kind, name, values)


@settings(max_examples=drawings(230), deadline=None)
@given(st.data())
def test_edits_keep_every_comment_leave_no_reference_behind(draw: st.DataObject) -> None:
    text = with_more()
    for number in range(5):
        try:
            operations = drawn_edit(draw, text, number)
        except EditError:
            continue
        after = apply(text, operations)
        gone = [line for line in text.splitlines() if line not in after.splitlines()]
        removed = any(isinstance(one, Remove) and not isinstance(one.location[-1], str) for one in operations)
        removed |= any(isinstance(one, Remove) and len(one.location) in (2, 4, 6) for one in operations)
        lost = Counter(COMMENT.findall(text)) - Counter(COMMENT.findall(after))
        assert not lost or (removed and all(any(comment in line for line in gone) for comment in lost))
        text = after
    findings = examine(TextFile(DEMO, text.encode()))[1]
    assert not [one for one in findings if one.code in ("unknown-name", "unreadable", "unknown-key")]


def test_an_edit_touches_its_own_line_alone() -> None:
    text = "# top\na: {x: 1,   y: [2,3]}   # why\n\nb:\n  # inside\n  - {k: v}   # one\n  - last\n# end"
    assert apply(text, [Set(("a", "y"), [4])]) == text.replace("[2,3]", "[4]")
    assert apply(text, [Set(("a", "z"), "q: r")]) == text.replace("[2,3]}", "[2,3], z: 'q: r'}")
    assert apply(text, [Remove(("a", "x"))]) == text.replace("x: 1,   ", "")
    assert apply(text, [Rename(("a",), "c")]) == text.replace("\na:", "\nc:")
    assert apply(text, [Insert(("b",), 1, {"n": True})]) == text.replace("  - last", "  - {n: true}\n  - last")
    swapped = "b:\n  - last\n  # inside\n  - {k: v}   # one\n# end"
    assert apply(text, [Move(("b",), 0, 1)]).endswith(swapped)
    assert apply(apply(text, [Move(("b",), 0, 1)]), [Move(("b",), 1, 0)]) == text
    assert apply(text, [Set(("c", "d"), "e")]) == text.replace("\n# end", "\n\nc:\n  d: e\n# end")


def test_lines_end_as_they_did_before() -> None:
    text = "\ufeffa: {x: 1}\r\nb:\r\n  - one   # first\r\n"
    assert apply(text, [Insert(("b",), 1, "two")]) == f"{text}  - two\r\n"
    assert apply(text, [Set(("c", "d"), "e")]) == f"{text}\r\nc:\r\n  d: e\r\n"


def test_what_an_anchor_stands_for_is_not_edited_behind_its_back() -> None:
    text = "a: &one {x: 1}\nb: *one\n"
    with pytest.raises(EditError, match="by hand"):
        apply(text, [Set(("b", "x"), 2)])


@pytest.mark.parametrize(
    ("edit", "says"),
    [
        (lambda e: e.remove("group", "handsets"), "still needed by rule Handsets"),
        (lambda e: e.remove("network", "flat"), "still needed by limiters.films"),
        (lambda e: e.remove("queue", "work"), "still needed by rule Scans"),
        (lambda e: e.rename("group", "handsets", "scanner"), "there is a group “scanner” already"),
        (lambda e: e.set("limiter", "film", {"down": "1 Mbit/s"}), "did you mean “films”"),
        (lambda e: e.add("queue", "new", {}), "name the tree"),
        (lambda e: e.add("queue", "wrok/new", {}, "main"), "did you mean “work”"),
        (lambda e: e.switch("rule", "Play", True), "is on already"),
        (lambda e: e.set("rule", "Play", {"port": None}), "has no “port”"),
        (lambda e: e.remove("tunnel", "office"), "still needed by route Records"),
        (lambda e: e.insert("route", "Records", {}), "there is a route “Records” already"),
        (lambda e: e.move("mapping", "Play", ("to", "1")), "is there already"),
    ],
)
def test_an_edit_that_cannot_be_made_says_why(edit: Any, says: str) -> None:
    with pytest.raises(EditError, match=re.escape(says)):
        edit(Edits(data_of(with_more())))


def test_a_queue_renamed_in_one_tree_keeps_its_name_in_the_rules_of_the_other() -> None:
    text = DEMO.read_text()
    after = data_of(apply(text, Edits(data_of(text)).rename("queue", "calls", "voice", "main")))
    assert after["rules"][0]["queue"] == {"main": "voice", "spare": "calls"}
    both = data_of(apply(text, Edits(data_of(text)).rename("queue", "calls", "voice")))
    assert [rule["queue"] for rule in both["rules"][:3]] == ["voice"] * 3


def test_two_edits_at_once_lose_neither_and_all_are_undone_to_the_same_bytes(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_bytes(DEMO.read_bytes())

    def add(first: int) -> None:
        for number in range(first, first + 10):
            with held(file) as one:
                text = one.content.decode()
                changed = apply(text, Edits(data_of(text)).add("group", f"g{number}", {"members": ["10.61.0.9"]}))
                one.write(changed.encode(), "add")

    threads = [Thread(target=add, args=(first,)) for first in (100, 200)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len([name for name in data_of(file.read_text())["groups"] if name.startswith("g")]) == 20
    for _ in range(20):
        with held(file) as one:
            one.undo()
    assert file.read_bytes() == DEMO.read_bytes()
    with pytest.raises(CannotEditError, match="no edit"), held(file) as one:
        one.undo()


def test_a_file_that_changes_meanwhile_or_is_open_or_a_link_is_not_harmed(tmp_path: Path) -> None:
    file, link = tmp_path / "real.yaml", tmp_path / "sluice.yaml"
    file.write_text("a: 1\n")
    link.symlink_to(file)
    with held(link) as one:
        one.write(b"a: 2\n", "x")
    assert link.is_symlink() and file.read_text() == "a: 2\n"
    with pytest.raises(CannotEditError, match="another program"), held(link) as one:
        file.write_text("a: 3\n")
        one.write(b"a: 4\n", "x")
    assert file.read_text() == "a: 3\n"
    with pytest.raises(CannotEditError, match="something else since"), held(link) as one:
        one.undo()
    (tmp_path / ".real.yaml.swp").touch()
    with pytest.raises(CannotEditError, match="an editor has"), held(link):
        pass
    assert sorted(path.name for path in tmp_path.iterdir()) == [".real.yaml.swp", "real.yaml", "sluice.yaml", "state"]


@pytest.mark.parametrize(
    ("module", "name", "error", "says"),
    [
        (os, "fsync", errno.ENOSPC, "No space left"),
        (tempfile, "mkstemp", errno.EROFS, "Read-only file system"),
        (tempfile, "mkstemp", errno.EACCES, "Permission denied"),
    ],
)
def test_where_a_file_cannot_be_written_it_stays_as_it_was(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, module: Any, name: str, error: int, says: str
) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text("a: 1\n")

    def refuse(*_: Any, **__: Any) -> None:
        raise OSError(error, os.strerror(error))

    with held(file) as one:
        one.write(b"a: 2\n", "first")
    monkeypatch.setattr(module, name, refuse)
    with pytest.raises(CannotEditError, match=says), held(file) as one:
        one.write(b"a: 3\n", "second")
    monkeypatch.undo()
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    assert file.read_text() == "a: 2\n"
    assert sorted(path.name for path in tmp_path.iterdir()) == ["sluice.yaml", "state"]
    with held(file) as one:
        assert one.undo().words == "first"  # the edit that failed is not remembered
    assert file.read_text() == "a: 1\n"
