import os
from collections.abc import Callable
from ipaddress import ip_address
from pathlib import Path

import pytest

from tests.conftest import SMALL_PLAN, told
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.outside.files import examine, load
from wily_sluice.plan.build import build_site
from wily_sluice.plan.edit.operations import Set
from wily_sluice.plan.edit.text import apply
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.model import Plan

TEN_MISTAKES = """\
site: Ten mistakes
timezone: Europe/Dubbelin
uplinks:
  line: {interface: wan0, down: 180, up: 24 MBPS, headrom: 8%}
networks:
  house: {interface: lan0, subnets: [10.7.0.5/24]}
groups:
  backwards: [10.7.0.9-10.7.0.3]
  circle: [circle]
trees:
  main:
    queues:
      calls: {guarantee: 60%, priority: 11}
      work: {guarantee: 70%}
      rest: {default: true}
rules:
  - {local: circel, queue: work}
  - {port: 99999, queue: calls}
"""
# Line, key, what the message must say, what would be right.
EXPECTED = [
    (2, "timezone", "Dubbelin", "Europe/Dublin"),
    (4, "uplinks.line.down", "180 has no unit", "180 Mbit/s"),
    (4, "uplinks.line.up", "24 MBPS", "24 Mbit/s or 24 MB/s"),
    (4, "uplinks.line.headrom", "no key “headrom”", "did you mean “headroom”"),
    (6, "networks.house.subnets[1]", "beyond its prefix", "10.7.0.0/24"),
    (8, "groups.backwards[1]", "runs backwards", "10.7.0.3-10.7.0.9"),
    (9, "groups.circle[1]", "circle → circle", "remove “circle”"),
    (12, "trees.main.queues", "add up to 130%", "100% in total"),
    (13, "trees.main.queues.calls.priority", "priority 11 is out of range", "from 1 (first) to 9 (last)"),
    (17, "rules[1].local", "no host, group or network “circel”", "did you mean “circle”"),
    (18, "rules[2].port", "“99999”", "ports are 1 to 65535"),
]


def test_every_mistake_is_told_in_one_run_with_its_line_and_what_would_be_right(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(TEN_MISTAKES)
    plan, findings = examine(file)
    assert plan is None
    found = [(finding.line, finding.key) for finding in findings if finding.severity == "error"]
    assert found == sorted((line, key) for line, key, _, _ in EXPECTED)
    for line, key, says, remedy in EXPECTED:
        text = next(str(finding) for finding in findings if (finding.line, finding.key) == (line, key))
        assert says in text
        assert remedy in text


@pytest.mark.parametrize(
    ("word", "known", "meant"),
    [
        ("headrom", ["headroom", "up"], "headroom"),
        ("voip", ["calls", "web"], "calls"),
        ("Torrent", ["swarms", "calls"], "swarms"),
        ("games", ["play", "web"], "play"),
        ("max", ["cap", "guarantee"], "cap"),
        ("latency", ["delay", "limit"], "delay"),
    ],
)
def test_an_unknown_word_is_met_with_what_the_trade_means_by_it(word: str, known: list[str], meant: str) -> None:
    assert suggestion(word, known) == f"did you mean “{meant}”?"
    assert "known here" in suggestion("xyzzy", known)


@pytest.mark.parametrize(
    ("content", "says"),
    [
        (b"", "is empty"),
        (b"\x7fELF\x02\x01\x00" + os.urandom(4000), "not text in UTF-8"),
        (b"site: a\0b\n", "character that YAML does not allow"),
        (SMALL_PLAN[: SMALL_PLAN.index("fd07")].encode(), "not YAML that can be read"),
        (b"site: a\nsite: b\n", "each key once"),
        (b"- a\n- b\n", "no keys at its outermost level"),
        (b"just words\n", "no keys at its outermost level"),
        (b"a: " + b"[" * 3000, "cannot be read|can be read|nested"),
        (b"a: &a [x,x,x,x,x,x,x,x,x]\n" + b"".join(
            b"%c: &%c [%s]\n" % (98 + n, 98 + n, b",".join([b"*%c" % (97 + n)] * 9)) for n in range(8)
        ), "too many values"),
        (b"site: !!python/object:os.system x\n", "no use here|no key|find"),
        (b"%YAML 1.2\n---\nsite: x\n---\nsite: y\n", "can be read"),
    ],
)  # fmt: skip
def test_a_file_that_is_no_plan_gets_one_clear_error(tmp_path: Path, content: bytes, says: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_bytes(content)
    with pytest.raises(FileError, match=says) as caught:
        load(file)
    assert len([f for f in caught.value.findings if f.key == ""]) <= 1


def test_a_file_of_100_megabytes_is_refused_unread(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    with file.open("wb") as out:
        out.truncate(100_000_000)
    with pytest.raises(FileError, match="larger than 1 MB") as caught:
        load(file)
    assert len(caught.value.findings) == 1


def test_what_is_not_there_is_told_by_name(tmp_path: Path) -> None:
    with pytest.raises(FileError, match="no such plan file"):
        load(tmp_path / "nowhere.yaml")
    with pytest.raises(FileError, match="cannot be read: Is a directory"):
        load(tmp_path)
    (tmp_path / "sluice.yaml").write_text("{}\n")
    with pytest.raises(FileError) as caught:
        load(tmp_path / "sluice.yaml")
    assert [finding.key for finding in caught.value.findings] == ["site", "trees", "uplinks"]


def test_groups_hold_addresses_ranges_subnets_networks_and_groups(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(
        ("trees:", "groups: {some: [10.7.0.3, 10.7.0.8-10.7.0.9], more: [some, guests, 'fd07::/120']}\ntrees:"),
        ("local: guests", "local: [more, 10.7.0.99]"),
    )
    who = plan.limiters[0].local.addresses
    inside = ["10.7.0.3", "10.7.0.9", "10.7.0.99", "10.7.1.200", "fd07::ff"]
    assert all(ip_address(address).packed in who for address in inside)
    assert all(ip_address(address).packed not in who for address in ("10.7.0.4", "10.7.2.1", "fd07::100"))


def test_a_value_may_differ_by_direction(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(("{default: true}", "{default: true, cap: {up: 80%, down: 5 Mbit/s}}"))
    rest = plan.trees["main"].queues[1]
    assert (str(rest.cap.up), str(rest.cap.down)) == ("80%", "5 Mbit/s")


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("networks:", "gate: {firewall-mark-bits: 30-24}\nnetworks:", "bits count from 0 to 31, the lower one first"),
        ("networks:", "gate: {firewall-mark-bits: 0xff}\nnetworks:", "write the lowest and the highest, such as 24-30"),
        ("networks:", "gate: {routing-preference: 32766}\nnetworks:", "32766"),
        (
            "networks:",
            "  b: {interface: wan1, down: 1 Mbit/s, up: 1 Mbit/s}\n"
            "  c: {interface: wan2, down: 1 Mbit/s, up: 1 Mbit/s}\n"
            "gate: {firewall-mark-bits: 3-4}\nnetworks:",
            "bits 3-4 tell 2 uplinks and tunnels apart; this plan has 3",
        ),
        ("queue: calls", "queue: cals", "did you mean “calls”"),
        ("queue: calls", "queue: 7", "name a queue"),
        ("local: house,", "remote: house,", "remote is the far side → write local: house"),
        ("local: guests", "local: []", "write names of groups"),
        ("protocol: udp", "protocol: utp", "is not a protocol"),
        ("protocol: udp", "protocol: icmp", "has no ports"),
        ("per: host, down: 2 Mbit/s", "per: host", "caps neither direction"),
        ("interface: lan1", "interface: lan0", "is already the interface of house"),
        ("[10.7.1.0/24]", "[10.7.0.128/25]", "10.7.0.128-10.7.0.255 is also in house"),
        ("{default: true}", "{}", "no leaf is the default"),
        ("{default: true}", "{default: true, queues: {}}", "needs at least one child"),
        ("calls: {", "calls: {default: true, ", "is already the default"),
        ("calls: {guarantee: 20%", "calls: {guarantee: 30%, cap: 20%", "a guarantee is at most the cap"),
        ("calls: {guarantee: 20%", "calls: {guarantee: 10 Mbit/s", "9 Mbit/s"),
        ("rest: {default: true}", "rest: {queues: {a: {guarantee: 1 Mbit/s, default: true}}}", "give rest a guarantee"),
        ("headroom: 10%", "framing: pppoe over pmt", "did you mean “pppoe over ptm”"),
        ("headroom: 10%", "framing: {frame-adds: 34}", "is not a size"),
        ("calls: {guarantee: 20%", "calls: {delay: 0 ms, guarantee: 20%", "“0 ms” is too short"),
        ("down: 2 Mbit/s}", "down: 2 Mbit/s, excess: drop, burst: 2 kB, round-trip: 0 ms}", "“0 ms” is too short"),
        ("headroom: 10%", "framing: {frame-adds: 9 kB}", "no line has frames that add 9000 B"),
        ("headroom: 10%", "framing: {carried-in: round}", "carried in atm or ptm"),
        ("main:\n", "main:\n    discipline: strict\n", "is strict: it serves by priority alone"),
        ("rest: {default: true}", "rest: {default: true, discipline: strict}", "a leaf has no discipline"),
        (
            "rest: {default: true}",
            "rest: {default: true, limit: 0 packets}",
            "is not a limit: write it like 200 packets",
        ),
        ("rest: {default: true}", "rest: {limit: 9 kB, queues: {a: {default: true}}}", "a parent holds no packets"),
        ("rest: {default: true}", "rest: {default: true, aqm: red}", "unknown value “red” for aqm"),
        ("headroom: 10%", "headroom: 100%", "nothing of the line is left"),
        ("trees:\n  main:", "trees:\n  other: {queues: {x: {default: true}}}\n  main:", "none is named for up"),
        ("headroom: 10%", "headroom: 10%, tree: mian", "did you mean “main”"),
        ("headroom: 10%", "headroom: 10%, tree: {left: main}", "name one tree, or {up: one, down: another}"),
        ("queue: calls", "queue: {main: cals}", "did you mean “calls”"),
        ("queue: calls", "queue: {mian: calls}", "there is no tree “mian”"),
        ("calls: {", "calls: {delay: 10 ms, ", "only a curve parent can keep a delay"),
        (
            "main:\n    queues:\n      calls: {guarantee: 20%",
            "main:\n    discipline: curve\n    queues:\n      calls: {delay: 10 ms",
            "a delay of 10 ms needs a guarantee down",
        ),
        (
            "main:\n    queues:\n      calls: {",
            "main:\n    discipline: curve\n    queues:\n      calls: {delay: 1 ms, ",
            "need 12.1 Mbit/s, but line up has 9 Mbit/s: calls 12.1 Mbit/s",
        ),
        (
            "rest: {default: true}",
            "rest: {default: true, aqm: codel, fair-by: host}",
            "codel has one queue for everything",
        ),
        ("rest: {default: true}", "rest: {default: true, aqm: fifo, ecn: true}", "a fifo does not mark"),
    ],
)
def test_what_does_not_fit_together_is_refused(small_plan: Callable[..., Plan], old: str, new: str, says: str) -> None:
    with pytest.raises(FileError) as caught:
        small_plan((old, new))
    assert says in str(caught.value)


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ("down: 20 Mbit/s", "down: 20480 kbit/s", "write 20 Mbit/s if you mean that"),
        ("down: 2 Mbit/s}", "down: 4194304 bit/s}", "is 4 × 1,048,576 bit/s"),
        ("headroom: 10%", "headroom: 0%", "packets queue in the modem"),
        ("down: 2 Mbit/s}", "down: 50 Mbit/s}", "has no effect"),
        ("local: guests", "local: 10.99.0.1", "in no network of the plan"),
        ("rules:", "rules:\n  - {name: All, queue: rest}", "is never reached: All above it"),
        ("rest: {default: true}", "rest: {default: true}\n      spare: {}", "no rule uses this queue"),
        ("trees:", "groups: {nobody: [10.7.0.4]}\ntrees:", "is not used"),
        ("rest: {default: true}", "rest: {default: true, cap: 30 Mbit/s}", "more than line can have"),
        ("10.7.1.0/24", "'2000::/3'", "much of the internet"),
        ("down: 20 Mbit/s, up: 10 Mbit/s", "down: 20 Mbit/s, up: 10 kbit/s", "slower than any line"),
        ("port: 5004-5005", "remote: 10.7.1.4, port: 5004", "between your own hosts is not shaped"),
        ("port: 5004-5005", "remote: '::ffff:198.51.100.1', port: 5004", "IPv4-mapped"),
        ("{local: guests", "{local: 10.7.0.4", "covers IPv4 only, but house has IPv6"),
        ("calls: {guarantee: 20%, priority: 1}\n      rest: {default: true}",
         "calls: {cap: 40%}\n      rest: {cap: 50%, default: true}", "1.8 Mbit/s of line down can never be used"),
    ],
)  # fmt: skip
def test_what_is_doubtful_is_a_warning_and_the_plan_can_be_used(
    small_plan: Callable[..., Plan], old: str, new: str, says: str
) -> None:
    plan = small_plan((old, new))
    findings = told(Path(plan.document.file))
    assert {finding.severity for finding in findings} == {"warning"}
    assert any(says in str(finding) for finding in findings)


def test_caps_on_all_queues_but_one_reserve_nothing_for_it(small_plan: Callable[..., Plan]) -> None:
    queues = "calls: {}\n      bulk: {cap: 50%}\n      rest: {cap: 60%, default: true}"
    plan = small_plan(("calls: {guarantee: 20%, priority: 1}\n      rest: {default: true}", queues))
    said = [str(finding) for finding in told(Path(plan.document.file)) if finding.key.endswith("calls")]
    assert len(said) == 1 and "reserve little for it" in said[0]


def test_headroom_may_differ_by_direction(small_plan: Callable[..., Plan]) -> None:
    line = small_plan(("headroom: 10%", "headroom: {up: 20%}")).uplinks[0]
    assert (line.usable("up"), line.usable("down")) == (8_000_000, 18_400_000)  # the usual 8% where nothing is said


@pytest.mark.parametrize(
    ("words", "matched", "missed"),
    [
        ("port: 80/tcp", [(6, 80)], [(17, 80), (6, 81)]),
        ("remote-port: [80/tcp, 53/udp, 5060]", [(6, 80), (17, 53), (6, 5060), (17, 5060)], [(17, 80), (6, 53)]),
        ("protocol: udp, port: 80/tcp", [], [(6, 80), (17, 80)]),
        ("port: web", [(6, 443), (17, 8000)], [(17, 443)]),
    ],
)
def test_a_port_may_say_its_transport(
    small_plan: Callable[..., Plan], words: str, matched: list[tuple[int, int]], missed: list[tuple[int, int]]
) -> None:
    rule = f"{{name: Calls, local: house, {words}, queue: calls}}"
    old = "{name: Calls, local: house, protocol: udp, port: 5004-5005, queue: calls}"
    plan = small_plan((old, rule), ("trees:", "groups: {web: {ports: [443/tcp, 8000-8100]}}\ntrees:"))
    shaper = build_site(plan, lambda _: None).shapers["line", "up"]
    for cases, queue in ((matched, "calls"), (missed, "rest")):
        for protocol, port in cases:
            parties = Parties(protocol, ip_address("10.7.0.9").packed, ip_address("198.51.100.9").packed, 40_000, port)
            assert shaper.leaf_of(Conversation(key_of(parties))).path == queue


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ("site: A\nuplinks:\n\tline: {}\n", 3, "a tab is at the beginning of the line"),
        (
            "site: A\nuplinks:\n  line:\n    interface:wan0\n    down: 5 Mbit/s\n",
            4,
            "a space is missing after the colon",
        ),
        ("site: A\nuplinks:\n  line:\n    interface: wan0\n   down: 5 Mbit/s\n", 5, "is not YAML that can be read"),
        ("site: A\nremote: http://x.example\nrules: [\n", 4, "is not YAML that can be read"),
        ("site: A\ngroups:\n  g:\n    - fd61:0:0:1::40\n   - 10.7.0.9\n", 5, "is not YAML that can be read"),
    ],
)
def test_a_slip_of_the_hand_is_told_on_the_line_where_it_is(tmp_path: Path, text: str, line: int, said: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(text)
    (finding,) = examine(file)[1]
    assert (finding.line, finding.code) == (line, "unreadable") and said in finding.message


@pytest.mark.parametrize("character", ["\u2028", "\u2029", "\x85"])
def test_what_breaks_a_line_for_some_programs_alone_does_not_end_a_comment(tmp_path: Path, character: str) -> None:
    file = tmp_path / "sluice.yaml"
    text = SMALL_PLAN.replace("site: Small", f"site: Small  # ours{character}networks: nobody").replace(
        "rest: {default: true}", f"rest: {{default: true}}  # {character} sluice: allow default-starves it is small"
    )
    file.write_text(text.replace("down: 2 Mbit/s", f"down: 2 Mbit/s, note: 'a{character}b'"))
    plan, findings = examine(file)
    assert plan is not None and "default-starves" not in {finding.code for finding in findings}
    assert [limiter.note for limiter in plan.limiters] == [f"a{character}b"]
    text = file.read_text()
    after = apply(text, [Set(("limiters", "guest", "down"), "3 Mbit/s")])
    assert after == text.replace("down: 2 Mbit/s", "down: 3 Mbit/s")
