"""Whatever stands in a file, it is read or refused in sentences."""

import contextlib
import copy
import re
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import drawings
from wily_sluice import examples
from wily_sluice.outside.files import DiskFile, examine
from wily_sluice.plan.file.document import Document, Location, read_document
from wily_sluice.plan.file.values import parse_quota
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.groups.place_file import members_where
from wily_sluice.plan.read import examine_document
from wily_sluice.plan.schedules.schedule import CalendarFile


@pytest.mark.parametrize("quota", ["40 GB" + " " * 200_000 + "x", "4 " * 100_000, "per " * 100_000 + "month"])
def test_a_quota_of_any_length_is_refused_as_fast_as_a_short_one(quota: str) -> None:
    begun = time.thread_time()
    with pytest.raises(ValueError, match="is not a quota"):
        parse_quota(quota)
    assert time.thread_time() - begun < 1


DEMO = read_document(DiskFile(examples.folder() / examples.PLAN), "plan")
WIDE = read_document(DiskFile(Path(__file__).with_name("wide.yaml")), "plan")  # with what the demo has no use for
PYTHONS = re.compile(r"\b(None|True|False|nan|inf|Traceback|Undefined|ruamel|pydantic)\b|<class|object at 0x|\{'|\['")
WORDS = ("", " ", "0", "-1", "1e308", "5", "0%", "100%", "200%", "-5%", "5 kg", "1e-306 Mbit/s", f"{'9' * 400} ms",
         "over 5 MB", "above 100%", "per month", "40 GB per", "10.61.0.0/33", "::/0", "0.0.0.0/0", "10.61.0.9-", "a b",
         "02:00:5e:00:53:zz", "*.", "..", "/etc", "mon-", "25:00", "2027-02-30", "EF", "64", "calls", "rest", "main",
         "fibre", "any", "not", "é", "\u2028", "x" * 300)  # fmt: skip
GONE = object()  # in place of garbage: nothing
PLAIN = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(),
    st.floats(allow_nan=False, allow_infinity=False),
    st.sampled_from(WORDS),
    st.text(max_size=3),
)
GARBAGE = st.recursive(
    PLAIN,
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(WORDS) | st.text(max_size=4), inner),
    max_leaves=4,
)


def places(data: Any, here: Location = ()) -> Iterator[Location]:
    """Every place of a file, and one more of each mapping and list."""
    items: Any = data.items() if isinstance(data, dict) else enumerate(data) if isinstance(data, list) else ()
    for key, item in items:
        yield (*here, key)
        yield from places(item, (*here, key))


@pytest.mark.parametrize("good", [DEMO, WIDE], ids=["demo", "wide"])
@settings(max_examples=drawings(400))
@given(st.data())
def test_garbage_at_any_key_is_told_in_sentences(good: Document, drawn: st.DataObject) -> None:
    data = copy.deepcopy(good.data)
    places_of = st.sampled_from(sorted(places(data), key=str))
    changes = drawn.draw(st.lists(st.tuples(places_of, st.just(GONE) | GARBAGE), min_size=1, max_size=3))
    for (*way, last), garbage in changes:
        inner: Any = data
        for part in way:
            inner = inner[part] if isinstance(inner, dict | list) and part in (
                inner if isinstance(inner, dict) else range(len(inner))
            ) else None  # fmt: skip
        if isinstance(inner, dict) or (isinstance(inner, list) and isinstance(last, int) and last < len(inner)):
            inner[last] = garbage
            if garbage is GONE:
                del inner[last]
    begun = time.monotonic()
    plan, findings = examine_document(Document(good.file, data, dict(good.lines), source=good.source))
    assert time.monotonic() - begun < 2
    assert plan is not None or findings
    for finding in findings:
        assert finding.line is not None
        assert not PYTHONS.search(f"{finding.message} {finding.remedy}"), finding


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("groups: {b: []}", "groups.b: "),
        ("groups: {b: [5]}", "groups.b: "),
        ('groups: {b: [c, ""]}', "groups.b: "),
        ("schedules: {s: [2027-02-29]}", "schedules.s.+2027-02-29"),
        ("trees: {m: {queues: {a: {weight: 1e-306}}}}", "weight"),
        ("site: &a [*a]", "nested deeper"),
        ("<<: {site: x}", ""),
        ("? [a, b]\n: c", ""),
        ("site: !!binary aGVsbG8=", ""),
        ("site: !!set {a, b}", ""),
        ("uplinks: !!set {a, b}", "no use here"),
        ("site: !!omap [a: b]", ""),
        ("site: 2027-02-30 25:61:00", ""),
        ("site:\tx", ""),
        ("\tsite: x", ""),
        ("site: 0o9\nrules: 0x", ""),
        ("- \n? ", ""),
        ("a: *nowhere", "undefined alias"),
        ("%YAML 9.9\n---\nsite: x", ""),
        ("%TAG ! tag:x,2000:\n---\nsite: !a b", ""),
        ("site: |\n  a\n b", ""),
        ("rules: [{any: [{any: [{any: [{any: [{port: x}]}]}]}]}]", "rules"),
        ("{a: 1, a: 2}", "twice|each key once"),
        ("routes: [{uplinks: {fibre: 0}}]", "fibre 0 is out of range: at least 0.001"),
        ("routes: [{uplinks: {fibre: 20000}}]", "at most 10,000$"),
        ("routes: [{uplinks: {}}]", "uplinks is empty"),
        ("null: 1\ntrue: 2\n1.5: 3", "no key"),
    ],
)
def test_yaml_of_any_kind_is_told_with_its_line(tmp_path: Path, text: str, says: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(text + "\n")
    plan, findings = examine(file)
    assert plan is None
    assert any(re.search(says, f"{finding.key}: {finding.message}") for finding in findings), findings
    assert all(finding.line is not None for finding in findings if finding.key not in ("site", "trees", "uplinks"))
    for finding in findings:
        assert not PYTHONS.search(f"{finding.message} {finding.remedy}"), finding


@pytest.mark.parametrize("encoding", ["utf-16", "utf-32", "latin-1", "utf-8-sig", "cp037"])
def test_a_file_in_another_encoding_is_read_or_refused_with_what_would_be_right(tmp_path: Path, encoding: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text("site: Tierärzte am Moor\nzone: x\n", encoding=encoding)
    try:
        found = str(examine(file)[1])
    except FileError as error:
        found = str(error)
    assert "no key “zone”" in found or "UTF-8" in found


CALENDAR = b"""BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Saltmarsh//EN\r\nBEGIN:VEVENT\r\nUID:1@saltmarsh.example\r
DTSTART;VALUE=DATE:20270101\r\nRRULE:FREQ=WEEKLY;COUNT=20\r\nSUMMARY:Closed\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"""
PLACES_FILE = (examples.folder() / "places.mmdb").read_bytes()


@given(st.data())
def test_files_with_any_bytes_changed_are_read_or_refused(data: st.DataObject) -> None:
    for good, read in (
        (CALENDAR, lambda file: CalendarFile(DiskFile(file), ZoneInfo("Europe/Dublin"))),
        (PLACES_FILE, lambda file: members_where(DiskFile(file), {("country",): ("XA",)})),
    ):
        changed = bytearray(good)
        for index, value in data.draw(
            st.lists(st.tuples(st.integers(0, len(good) - 1), st.integers(0, 255)), max_size=5)
        ):
            changed[index] = value
        with tempfile.NamedTemporaryFile() as file:
            file.write(changed[: data.draw(st.integers(0, len(changed)))])
            file.flush()
            with contextlib.suppress(ValueError):
                read(Path(file.name))
