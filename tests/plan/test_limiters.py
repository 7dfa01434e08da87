from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from tests.conftest import SMALL_PLAN, told
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.classify.neighbours import HOLD
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.site import SiteEngine
from wily_sluice.outside.files import examine
from wily_sluice.plan.build import build_site
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.groups.members import member_words
from wily_sluice.plan.model import Plan
from wily_sluice.units import MILLISECOND, SECOND

LIMITER = "guest: {local: guests, per: host, down: 2 Mbit/s}"
HARDWARE = "02:00:5e:10:00:01"


def conversation(host: int, network: int = 1) -> Conversation:
    return Conversation(key_of(Parties(6, bytes([10, 7, network, host]), bytes([203, 0, 113, 5]), 40_000, 443)))


def sent(engine: SiteEngine, who: Conversation, begin: int, seconds: int, rate: int) -> list[int]:
    """Offer packets down at a rate; when each of them left, in ns from `begin` on."""
    shaper = engine.shapers["line", "down"]
    now, due, left = begin, begin, []
    while now < begin + seconds * SECOND:
        while due <= now:
            shaper.offer(Packet(1000, who), now)
            due += 8000 * SECOND // rate
        while (packet := shaper.release(now)) is not None:
            if packet.conversation is who:
                left.append(now - begin)
        now += MILLISECOND
    return left


def test_a_change_of_schedule_takes_open_conversations_along_and_loses_no_packet(
    small_plan: Callable[..., Plan],
) -> None:
    plan = small_plan((LIMITER, f"{LIMITER[:-1]}, when: open}}\nschedules: {{open: [mon 08:00-18:00]}}"))
    dropped: list[Packet] = []
    engine = build_site(plan, dropped.append)
    zone = ZoneInfo("UTC")
    assert not engine.at(datetime(2027, 3, 1, 17, 59, tzinfo=zone))  # as it was assumed
    who = conversation(9)
    assert len(sent(engine, who, 0, 5, 2_200_000)) * 8000 / 5 == pytest.approx(2_000_000, rel=0.02)
    over = len(dropped)  # what the limiter itself could not hold
    assert engine.at(datetime(2027, 3, 1, 18, 0, tzinfo=zone))
    after = sent(engine, who, 5 * SECOND, 3, 2_200_000)
    assert sum(now >= SECOND for now in after) * 8000 / 2 == pytest.approx(2_200_000, rel=0.01)
    assert len(after) > 3 * 2_200_000 / 8000  # what had to wait has gone as well
    assert len(dropped) == over
    assert engine.at(datetime(2027, 3, 8, 8, 0, tzinfo=zone))
    assert len(sent(engine, who, 8 * SECOND, 5, 2_200_000)) * 8000 / 5 == pytest.approx(2_000_000, rel=0.03)


def test_a_host_named_by_its_hardware_address_is_followed_to_its_new_address(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan(("local: guests, per", f"local: ['{HARDWARE}'], per"))
    engine = build_site(plan, lambda _: None)
    hardware, other = bytes.fromhex(HARDWARE.replace(":", "")), bytes(6)
    first, second = conversation(9), conversation(10)

    def limits(who: Conversation) -> int:
        engine.shapers["line", "down"].offer(Packet(1000, who), 0)
        assert who.down_path is not None
        return len(who.down_path.buckets)

    assert (limits(first), limits(second)) == (0, 0)
    engine.learn(first.parties.local, hardware, 0)
    engine.learn(second.parties.local, other, 0)
    assert (limits(first), limits(second)) == (1, 0)
    engine.learn(second.parties.local, hardware, HOLD - 1)  # two that claim one address do not take it to and fro
    assert (limits(first), limits(second)) == (1, 0)
    engine.learn(second.parties.local, hardware, HOLD)
    engine.learn(first.parties.local, other, HOLD)
    engine.settle(HOLD + SECOND)
    assert (limits(first), limits(second)) == (0, 1)


def test_groups_hold_exceptions_files_ports_and_hardware(tmp_path: Path) -> None:
    (tmp_path / "partners.csv").write_text(
        "address,who\n# of the district\n203.0.113.0/25,North\n198.51.100.7, South # x\n\n"
    )
    groups = (
        'groups:\n  some: {members: [house, guests], except: [10.7.0.128/25, "fd07::/64"]}\n'
        f"  box: ['{HARDWARE}', 10.7.1.7]\n  web: {{ports: [80, 8000-8100]}}\n  partners: {{file: partners.csv}}\n"
    )
    file = tmp_path / "sluice.yaml"
    limiters = "  some: {local: some, remote: partners, port: web, up: 1 Mbit/s}\n  box: {local: box, up: 3 Mbit/s}\n"
    file.write_text(groups + SMALL_PLAN.replace("limiters:\n", "limiters:\n" + limiters))
    plan, findings = examine(file)
    assert plan is not None, findings
    assert {name: member_words(members) for name, members in plan.groups.items()} == {
        "some": ["10.7.0.0-10.7.0.127", "10.7.1.0-10.7.1.255"],
        "box": ["10.7.1.7", HARDWARE],
        "web": ["port 80 or 8000-8100"],
        "partners": ["198.51.100.7", "203.0.113.0-203.0.113.127"],
    }
    assert plan.limiters[0].ports == ((80, 80), (8000, 8100))
    assert not told(file)


def test_bad_lines_of_a_list_are_named_with_their_number(tmp_path: Path) -> None:
    (tmp_path / "list.txt").write_text("10.7.0.1\n10.7.0.300\n# fine\nnobody\n")
    file = tmp_path / "sluice.yaml"
    file.write_text("groups: {few: {file: list.txt}, gone: {file: none.txt}}\n" + SMALL_PLAN)
    plan, findings = examine(file)
    assert plan is None
    told = {(Path(finding.file).name, finding.line) for finding in findings if finding.severity == "error"}
    assert told == {("list.txt", 2), ("list.txt", 4), ("sluice.yaml", 1)}


@pytest.mark.parametrize(
    ("new", "says"),
    [
        (
            "{local: guests, per: hots, down: 2 Mbit/s}",
            "use host, address, subnet/28, network, conversation or together",
        ),
        ("{local: guests, down: 2 Mbit/s, excess: mark}", "mark with a DSCP (mark LE)"),
        ("{local: guests, down: 2 Mbit/s, engage: 80%}", "like above 80%"),
        ("{local: guests, down: 2 Mbit/s, engage: above 5%}", "from 10% to 100%"),
        ("{local: guests, down: 2 Mbit/s, when: never}", "there is no schedule “never”"),
        ("{local: guests, down: 2 Mbit/s, uplink: lane}", "did you mean “line”"),
        ("{local: guests, down: 2 Mbit/s, quota: 40 GB}", "like 40 GB per month"),
        ("{local: guests, per: conversation, down: 2 Mbit/s, quota: 4 GB per day}", "over long before the day"),
        ("{local: guests, down: 2 Mbit/s, quota: 4 GB per day, starts: 3}", "only a quota per month or per week"),
        ("{local: guests, down: 2 Mbit/s, quota: 4 GB per month, starts: 32}", "a day from 1 to 31"),
        ("{local: guests, down: 2 Mbit/s, peak: 1 Mbit/s, excess: drop}", "is below the rate"),
        ("{local: guests, down: 2 Mbit/s, peak: 4 Mbit/s}", "has no effect with excess: wait"),
        ("{local: guests, down: 2 Mbit/s, excess: drop, burst: 1000 B}", "less than a full frame"),
        ("{local: guests, down: 2 Mbit/s, protocol: icmp, port: 80}", "has no ports"),
        ("{local: guests, down: 2 Mbit/s, port: house}", "“house” is not a port"),
        ("{local: guests, remote: ['02:00:5e:10:00:01'], down: 2 Mbit/s}", "the far side does not show"),
        ("{network: gusts, down: 2 Mbit/s}", "did you mean “guests”"),
    ],
)
def test_what_a_limiter_cannot_be_is_refused(small_plan: Callable[..., Plan], new: str, says: str) -> None:
    with pytest.raises(FileError) as caught:
        small_plan((LIMITER, f"guest: {new}"))
    assert says in str(caught.value)


@pytest.mark.parametrize(
    ("new", "says"),
    [
        ("{local: guests, per: host, down: 2 Mbit/s, excess: drop, burst: 1518 B}", "TCP connection reaches about"),
        ("{local: guests, down: 50 Mbit/s}", "has no effect"),
        ("{local: guests, down: 17 Mbit/s, engage: above 80%}", "has no effect down: the cap of 17 Mbit/s"),
        ("{local: guests, per: host, down: 5 Mbit/s, quota: 40 GB per month}", "2.25 GB an hour, 1.62 TB in a month"),
        ("{local: 192.0.2.7, down: 2 Mbit/s}", "none of your hosts match"),
        ("{local: guests, per: host, down: 2 Mbit/s}\n  all: {local: [house, guests], down: 1 Mbit/s}",
         "guest: has no effect: all already limits the same hosts to this rate or less, together"),
        ("{local: guests, per: host, down: 2 Mbit/s}\n  more: {local: 10.7.1.9, per: host, down: 3 Mbit/s}",
         "more: has no effect: guest already limits"),
        ("{local: empty, down: 2 Mbit/s}\ngroups: {empty: {members: [guests], except: [guests]}}", "matches no host"),
        ("{local: twice, down: 2 Mbit/s}\ngroups: {twice: [10.7.1.0/28, 10.7.1.7]}", "10.7.1.7 is a member already"),
        ("{local: guests, down: 2 Mbit/s}\nschedules: {idle: [mon 08:00-09:00]}", "is not used"),
        ("{local: guests, down: 2 Mbit/s, when: never}\nschedules: {never: [2027-12-24, not 2027-12-24]}",
         "never applies"),
        ("{local: guests, down: 2 Mbit/s, when: never}\nschedules: {never: [sat, from 2027-03-01, until 2027-03-05]}",
         "never applies"),  # from a Monday to a Friday
    ],
)  # fmt: skip
def test_what_is_doubtful_about_a_limiter_is_told(tmp_path: Path, new: str, says: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN.replace(LIMITER, f"guest: {new}"))
    plan, findings = examine(file)
    assert plan is not None, findings
    assert any(says in str(finding) and finding.line for finding in findings), findings


def test_limiters_that_do_not_stand_in_each_others_way_are_not_told_of(tmp_path: Path) -> None:
    both = "guest: {local: guests, per: host, down: 2 Mbit/s}\n  all: {local: guests, down: 8 Mbit/s}\n"
    both += "  late: {local: guests, per: host, down: 1 Mbit/s, when: night}\nschedules: {night: [22:00-06:00]}"
    file = tmp_path / "sluice.yaml"
    file.write_text(SMALL_PLAN.replace(LIMITER, both))
    assert told(file) == []


def test_each_network_has_a_rate_of_its_own(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan((LIMITER, "each: {per: network, down: 2 Mbit/s}"))
    engine = build_site(plan, lambda _: None)
    engine.at(0)
    shaper = engine.shapers["line", "down"]
    people = [conversation(host, network) for network in (0, 1) for host in (5, 6)]
    left = dict.fromkeys(people, 0)
    for now in range(0, 4 * SECOND, MILLISECOND):
        for who in people:
            shaper.offer(Packet(1000, who), now)
        while (packet := shaper.release(now)) is not None:
            left[packet.conversation] += packet.size * 8
    house, guests = left[people[0]] + left[people[1]], left[people[2]] + left[people[3]]
    assert house == pytest.approx(guests, rel=0.02) == pytest.approx(4 * 2_000_000, rel=0.05)


def test_a_hardware_address_and_a_network_are_two_conditions(small_plan: Callable[..., Plan]) -> None:
    both = f"local: '{HARDWARE}', network: guests"
    plan = small_plan(
        (LIMITER, f"guest: {{{both}, down: 2 Mbit/s}}"),
        ("- {name: Calls, local: house, protocol: udp, port: 5004-5005,", f"- {{name: Calls, {both},"),
    )
    engine = build_site(plan, lambda _: None)
    shaper = engine.shapers["line", "down"]
    for network, held in ((1, True), (0, False)):
        who = conversation(9, network)
        engine.neighbours.learn(who.parties.local, bytes.fromhex(HARDWARE.replace(":", "")), 0)
        assert bool(shaper.classifier.limits(shaper.classifier.subject(who))) is held
        assert shaper.leaf_of(who).path == ("calls" if held else "rest")
    stranger = conversation(7, 1)
    assert not shaper.classifier.limits(shaper.classifier.subject(stranger))


def test_a_quota_without_a_rate_counts_and_caps_nothing(small_plan: Callable[..., Plan]) -> None:
    plan = small_plan((LIMITER, "month: {local: guests, quota: 4 GB per month}"))
    engine = build_site(plan, lambda _: None)
    left = sent(engine, conversation(9), 0, 1, 8_000_000)
    assert len(left) > 900  # of a thousand bytes each
    assert sum(engine.ledgers["month"].news().values()) > 900_000


def test_a_rule_of_an_uplink_holds_there_alone(small_plan: Callable[..., Plan]) -> None:
    line = "  line: {interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%}\n"
    plan = small_plan(
        (line, line + line.replace("line", "other").replace("wan0", "wan1")), ("local: house", "uplink: other")
    )
    call = Conversation(key_of(Parties(17, bytes([10, 7, 0, 9]), bytes([203, 0, 113, 5]), 5004, 5004)))
    engine = build_site(plan, lambda _: None)
    leaves = {name: engine.shapers[name, "up"].leaf_of(call).path for name in ("line", "other")}
    assert leaves == {"line": "rest", "other": "calls"}
