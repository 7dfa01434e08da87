"""UplinkSelection with a kernel of a few lines: marks, numbers, lines that fail and come back, and probes."""

import os
import random
import select
import socket
import time
from collections.abc import Callable, Iterable, Mapping, Set
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.engine.driving import Bench
from tests.gate.fakes import FakeMachine, udp
from wily_sluice.engine.classify.header import Parties, key_of
from wily_sluice.engine.classify.neighbours import GATEWAY
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.site import SiteEngine
from wily_sluice.engine.uplinks import CALM, GIVEN_UP, HOLD_DOWN, TICK, Echoes, UplinkHealth
from wily_sluice.errors import LiveError
from wily_sluice.gate import rate_search
from wily_sluice.gate.kernel.echo import Nonce, checksum, echo_socket, parse_answer, request
from wily_sluice.gate.kernel.machine import Survey
from wily_sluice.gate.kernel.packet_queue import QueuedPacket
from wily_sluice.gate.kernel.policy_routes import Hop
from wily_sluice.gate.probes import PACE, Probed, Probes
from wily_sluice.gate.uplink_selection import UplinkSelection
from wily_sluice.outside.files import load
from wily_sluice.plan.build import build_site
from wily_sluice.plan.mark_field import MarkField, MarkUse, clashes, free_field
from wily_sluice.plan.model import Plan, Probing
from wily_sluice.units import MILLISECOND, SECOND

PLAN = """\
site: Two
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
trees: {main: {queues: {rest: {default: true}}}}
routes:
  - {local: gateway, uplink: mobile}
  - {port: 5004, uplink: mobile}
  - {remote: 203.0.113.0/24, uplink: fibre, else: mobile}
"""
HOPS = (Hop("-4", "wan0", "192.0.2.1"), Hop("-4", "wan1", ""))


class Kernel(FakeMachine):
    def __init__(self) -> None:
        super().__init__()
        self.refuses = False
        self.missing: list[str] = []
        self.led: list[tuple[dict[str, int], tuple[Hop, ...]]] = []
        self.forgotten: list[int] = []
        self.uses: tuple[MarkUse, ...] = ()

    def lead(
        self, numbers: Mapping[str, int], hops: Iterable[Hop], ends: Mapping[str, int], field: MarkField
    ) -> list[str]:
        self.led.append((dict(numbers), tuple(hops)))
        if self.refuses:
            raise LiveError("no")
        return self.missing

    def forget(self, mark: int, mask: int, outside: Set[str], known: Iterable[Parties]) -> None:
        self.forgotten.append(mark & mask)

    def mark_uses(self) -> tuple[MarkUse, ...]:
        return self.uses


class Site:
    def __init__(self, tmp_path: Path, text: str = PLAN) -> None:
        file = tmp_path / "sluice.yaml"
        file.write_text(text)
        self.plan: Plan = load(file)
        self.dropped: list[Packet] = []
        self.engine: SiteEngine = build_site(self.plan, self.dropped.append)
        self.kernel = Kernel()
        self.events: list[str] = []
        homes = {0: GATEWAY}
        tell: Callable[..., None] = lambda event, level, **about: self.events.append(event)  # noqa: E731
        self.steering = UplinkSelection(self.kernel, homes, tell, Probes())
        self.steering.numbers = self.steering.number(self.plan)

    def mark(self, remote: str, port: int = 80, local_port: int = 7, inside: int = 2, fwmark: int = 0) -> int:
        queue = self.kernel.open_queue(1, True, 128, 1 << 16, True)
        packet = QueuedPacket(b"", udp("10.7.0.9", remote, local_port, port), 0, fwmark, b"", inside, queue)
        return self.steering.mark(self.plan, self.engine, None, packet, SECOND)

    def look(self, running: set[str], at: int, changed: bool = False, hops: tuple[Hop, ...] = HOPS) -> list[int]:
        survey: Any = Survey({}, None, {}, set(), None, {}, running, hops)  # type: ignore[arg-type]
        self.steering.follow(self.plan, survey, at, changed)
        return self.steering.look(self.plan, self.engine, survey, at)


BOTH = {"wan0", "wan1"}
FIELD = MarkField()


def test_a_conversation_gets_its_uplinks_mark_and_keeps_those_of_others(tmp_path: Path) -> None:
    site = Site(tmp_path)
    fibre, mobile = FIELD.of(1), FIELD.of(2)
    assert site.mark("203.0.113.9", fwmark=0x12) == fibre | 0x12
    assert site.mark("203.0.113.9", 5004) == mobile
    assert site.mark("198.51.100.9") == FIELD.unrouted
    assert site.mark("203.0.113.9", local_port=8, inside=0) == mobile  # sent by the gateway itself
    site.engine.router.down = frozenset({0})
    assert site.mark("203.0.113.9") == fibre  # of a moment ago, which the kernel may not have kept yet
    assert site.mark("203.0.113.9", local_port=9) == mobile
    assert fibre & ~FIELD.mask == 0 == mobile & ~FIELD.mask


def test_what_opens_while_all_uplinks_are_down_is_routed_when_one_is_back(tmp_path: Path) -> None:
    site = Site(tmp_path)
    site.engine.router.down = frozenset({0, 1})
    assert site.mark("203.0.113.9") == -1  # so that its next packet arrives here too
    site.engine.router.down = frozenset({0})
    assert site.mark("203.0.113.9") == FIELD.of(2)
    assert site.mark("198.51.100.9") == FIELD.unrouted


def test_the_numbers_of_uplinks_do_not_depend_on_their_order_in_the_file(tmp_path: Path) -> None:
    fibre, mobile = (line for line in PLAN.splitlines(keepends=True) if line.startswith(("  fibre:", "  mobile:")))
    turned = PLAN.replace(fibre + mobile, mobile + fibre)
    assert turned != PLAN
    assert Site(tmp_path, turned).steering.numbers == Site(tmp_path).steering.numbers == {"fibre": 1, "mobile": 2}


def test_an_uplink_without_a_link_is_left_at_once_and_used_again_after_the_hold_down(tmp_path: Path) -> None:
    site = Site(tmp_path)
    assert site.look(BOTH, 0) == []
    assert site.look({"wan1"}, SECOND) == [1]
    assert site.mark("203.0.113.9") == FIELD.of(2)
    assert site.look({"wan1"}, 2 * SECOND) == []
    for at in (3 * SECOND, 3 * SECOND + HOLD_DOWN - 1):
        site.look(BOTH, at)
        assert site.steering.down == {"fibre"}
    site.look({"wan1"}, 3 * SECOND + HOLD_DOWN)  # again: the time begins anew
    site.look(BOTH, 20 * SECOND)
    site.look(BOTH, 20 * SECOND + HOLD_DOWN)
    assert site.steering.down == set()
    assert site.events == ["uplink.down", "uplink.back"]
    assert [hops for _, hops in site.kernel.led] == [HOPS, HOPS[1:], HOPS, HOPS[1:], HOPS]
    site.steering.forget(site.plan, [1])
    assert site.kernel.forgotten == [FIELD.of(1)]


def test_routes_are_verified_and_put_back_and_what_failed_is_tried_again(tmp_path: Path) -> None:
    site = Site(tmp_path)
    for second in range(29):
        site.look(BOTH, second * SECOND)
    assert len(site.kernel.led) == 1
    site.kernel.missing = ["rule add pref 28441 fwmark"]
    site.look(BOTH, 29 * SECOND, changed=True)  # somebody has flushed them
    assert site.events == ["routes.repaired"] and len(site.kernel.led) == 2
    site.kernel.missing = []
    site.kernel.refuses = True
    for second in range(60, 63):
        site.look(BOTH, second * SECOND)  # half a minute later, in any case; and again and again
    assert len(site.kernel.led) == 5 and site.events.count("routes.unusable") == 1
    site.kernel.refuses = False
    site.look(BOTH, 63 * SECOND)
    site.look(BOTH, 64 * SECOND)
    assert len(site.kernel.led) == 6


def test_an_uplink_without_a_default_route_is_told_once(tmp_path: Path) -> None:
    site = Site(tmp_path)
    for second in range(3):
        site.look(BOTH, second * SECOND, hops=HOPS[:1])
    assert site.events == ["route.missing"]
    site.look(BOTH, 3 * SECOND)
    assert site.steering._lacking == set()


TUNNEL = """tunnels: {office: {interface: vpn0, uplink: fibre, wrapping: vxlan}}
routes:
  - {port: 22, uplink: office, else: mobile}"""


def test_a_tunnel_fails_and_comes_back_with_the_uplink_that_carries_it(tmp_path: Path) -> None:
    site = Site(tmp_path, PLAN.replace("routes:", TUNNEL))
    every = {*BOTH, "vpn0"}
    site.look(every, 0)
    assert site.mark("203.0.113.9", 22) == FIELD.of(3)
    assert site.look({"wan1", "vpn0"}, SECOND) == [1, 3]
    assert site.mark("203.0.113.9", 22, local_port=8) == FIELD.of(2)
    site.look(every, 2 * SECOND)
    site.look(every, 2 * SECOND + HOLD_DOWN)
    assert site.mark("203.0.113.9", 22, local_port=9) == FIELD.of(3)
    assert site.look({*BOTH}, 30 * SECOND) == [3]
    # What a plan no longer has is not down.
    site.plan = Site(tmp_path).plan
    assert site.look(BOTH, 31 * SECOND) == [] and site.steering.down == set()


LIMITED = (
    PLAN.replace("up: 10 Mbit/s}", "up: 10 Mbit/s, refuses: [backups]}")
    .replace("{rest: {default: true}}", "{backups: {weight: 1}, rest: {default: true}}")
    .replace("routes:", """rules: [{remote-port: 7100, queue: backups}, {moved: over 1 MB, queue: backups}]
limiters: {month: {uplink: mobile, per: together, quota: 9 MB per month, down: 9 Mbit/s, up: 9 Mbit/s}}
routes:
  - {name: Small, local: 10.7.0.9, uplink: mobile, while: under 10% of quota, else: fibre}""")
)  # fmt: skip


def test_a_route_ends_with_its_part_of_a_quota_and_begins_again_with_the_next(tmp_path: Path) -> None:
    site = Site(tmp_path, LIMITED)
    site.look(BOTH, 0)
    assert site.mark("198.51.100.9") == FIELD.of(2)
    ledger = site.engine.ledgers["month"]
    ledger.add({b"": 900_000})
    site.look(BOTH, SECOND)
    assert site.mark("198.51.100.9", local_port=8) == FIELD.of(1)
    ledger.begin("the next")
    site.look(BOTH, 2 * SECOND)
    assert site.mark("198.51.100.9", local_port=9) == FIELD.of(2)
    assert site.events == ["route.spent", "route.again"]


def test_what_an_uplink_refuses_is_led_elsewhere_or_dropped_there(tmp_path: Path) -> None:
    site = Site(tmp_path, LIMITED)
    assert site.mark("198.51.100.9") == FIELD.of(2)
    assert site.mark("198.51.100.9", 7100) == FIELD.of(1)
    site.engine.router.down = frozenset({0})
    assert site.mark("198.51.100.9", 7100, local_port=8) == FIELD.unrouted
    # One of which it turns out later is dropped on the line, and comes here again.
    shaper = site.engine.shapers["mobile", "up"]
    conversation = Conversation(key_of(Parties(17, bytes((10, 7, 0, 9)), bytes((198, 51, 100, 9)), 7, 80)))
    for count in range(1, 1201):
        now = SECOND + count * 2 * MILLISECOND
        shaper.offer(Packet(1000, conversation), now)
        shaper.release(now)
    assert site.dropped and site.dropped[-1].conversation is conversation
    sent = 1200 - len(site.dropped)
    assert sent == 1001  # those that bring it over 1 MB
    assert site.steering.lead_elsewhere(site.plan, site.engine) == [conversation.key]
    assert site.steering.lead_elsewhere(site.plan, site.engine) == []


def test_uplinks_keep_their_numbers_when_others_come_and_go(tmp_path: Path) -> None:
    site = Site(tmp_path)
    more = PLAN.replace("  fibre:", "  cable: {interface: wan2, down: 9 Mbit/s, up: 9 Mbit/s}\n  fibre:")
    assert site.steering.number(Site(tmp_path, more).plan) == {"cable": 3, "fibre": 1, "mobile": 2}


def probed_line(within: int) -> Probed:
    near, far = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    near.close()
    far.close()
    shaper = Bench(QueueSpec("", 1, 1, children=(QueueSpec("only", 0, 1),))).shaper
    return Probed(
        "wan0", Probing(("198.51.100.10",), within, 3), {socket.AF_INET: near}, Nonce(77, b"12345678"), shaper
    )


def test_an_uplink_fails_when_so_many_probes_in_a_row_were_lost_and_is_well_with_the_first_answer() -> None:
    probed = probed_line(500 * MILLISECOND)
    begun = 100 * SECOND
    probed.echoes.answered = True  # before
    for beat in range(1, 26):  # a little early and a little late in turn, as a loop calls
        probed.beat(begun + beat * PACE + (-1 if beat % 2 else 1) * MILLISECOND)
        assert not probed.echoes.failing  # sent at 0.1, 1.1 and 2.1 s
    probed.beat(begun + 26 * PACE)
    assert probed.echoes.failing
    probed.beat(begun + 33 * PACE)
    probed.heard("198.51.100.10", 3, begun + 33 * PACE)  # an older one
    probed.heard("198.51.100.99", 4, begun + 33 * PACE)  # by somebody else
    probed.heard("198.51.100.10", 4, begun + 33 * PACE + 501 * MILLISECOND)  # too late
    assert probed.echoes.failing
    probed.beat(begun + 44 * PACE)
    probed.heard("198.51.100.10", 5, begun + 44 * PACE + 499 * MILLISECOND)
    assert not probed.echoes.failing
    probed.heard("198.51.100.10", 5, begun + 45 * PACE)  # twice
    assert probed.echoes.lost == 0 and probed.echoes.answered


@pytest.mark.parametrize("once", [False, True])
@pytest.mark.parametrize("answers", [False, True])
def test_a_line_whose_conversations_are_answered_works_though_no_remote_answers(answers: bool, once: bool) -> None:
    """Whether a remote answered once or never; a dead line is found out all the same."""
    probed = probed_line(500 * MILLISECOND)
    probed.echoes.answered = once
    line = probed.shaper
    line.answered = 99 * SECOND  # before the first probe
    failed: list[float] = []
    for beat in range(1200):
        now = 100 * SECOND + beat * PACE
        if answers and beat < 600:
            line.answered = now - 20 * MILLISECOND
        line.asked = now
        probed.beat(now)
        if probed.echoes.failing:
            failed.append(beat * PACE / SECOND)
    first = 60 + 30 if answers else 2.6 if once else 9.6
    assert failed[0] == pytest.approx(first, abs=0.3)
    assert probed.echoes.astray == answers
    while not probed.echoes._waiting:
        now += PACE
        probed.beat(now)
    probed.heard("198.51.100.10", probed.echoes._sequence, now + 1)
    assert not probed.echoes.failing and not probed.echoes.astray


def test_where_echoes_say_nothing_an_idle_line_does_not_fail() -> None:
    probed = probed_line(500 * MILLISECOND)
    for beat in range(2000):
        now = 100 * SECOND + beat * PACE
        if beat < 300:
            probed.shaper.answered, probed.shaper.asked = now - 20 * MILLISECOND, now
        probed.beat(now)
        assert not probed.echoes.failing


@pytest.mark.parametrize(("stops", "stuck"), [(60, None), (None, 60), (None, None)])
def test_datagrams_that_come_back_show_that_a_line_works(stops: int | None, stuck: int | None) -> None:
    """A call: its far end stops, or goes on by itself while TCP gets no answer any more."""
    probed, failed = probed_line(500 * MILLISECOND), []
    line = probed.shaper
    for beat in range(2400):
        now, second = 100 * SECOND + beat * PACE, beat * PACE / SECOND
        line.spoke = now
        if stops is None or second < stops:
            line.heard = now - 20 * MILLISECOND
        if stuck is not None:
            line.asked = now
            if second < stuck:
                line.answered = now - 20 * MILLISECOND
        probed.beat(now)
        if probed.echoes.failing:
            failed.append(second)
    if stops is None and stuck is None:
        assert not failed
    else:
        assert failed[0] == pytest.approx(60 + (30 if stops else 60), abs=0.3)


@pytest.mark.parametrize(("part", "cuts"), [(0.0, 0), (0.1, 1), (0.3, 2), (0.5, 2)])
def test_a_line_that_loses_echoes_is_not_left_again_and_again(part: float, cuts: int) -> None:
    """In each of eight hours without other traffic; a line that dies is left all the same, a little later."""
    drawn, echoes, health = random.Random(33), Echoes(500 * MILLISECOND, 3), UplinkHealth()
    often = [0] * 8
    for second in range(8 * 3600):
        now = second * SECOND
        number = echoes.next(now)
        if drawn.random() >= part:
            echoes.heard(number, now + 20 * MILLISECOND)
        echoes.next(now + 600 * MILLISECOND)
        if echoes.failing:
            often[second // 3600] += health.failed("line", now)
        else:
            health.well("line", now)
    assert max(often[1:]) <= cuts, often
    died = second = 0
    while not echoes.failing:
        second += 1
        echoes.next((8 * 3600 + second) * SECOND)
        echoes.next((8 * 3600 + second) * SECOND + 600 * MILLISECOND)
        died += 1
    assert died <= (3 if not part else 20)


def test_the_last_line_is_not_down_by_silence_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    site = Site(tmp_path)
    silent: set[str] = set()
    monkeypatch.setattr(site.steering._probes, "why", lambda uplink: "no answer" if uplink in silent else "")
    assert site.look(BOTH, 0) == []
    silent.add("fibre")
    assert site.look(BOTH, SECOND) == [1] and site.steering.down == {"fibre"}
    silent.add("mobile")
    assert site.look(BOTH, 2 * SECOND) == [] and site.steering.down == set()
    assert site.look({"wan1"}, 3 * SECOND) == [1] and site.steering.down == {"fibre"}  # it has no link
    assert site.look(set(), 4 * SECOND) == [2]
    silent.clear()
    site.look(BOTH, 5 * SECOND)
    site.look(BOTH, 5 * SECOND + HOLD_DOWN)
    assert site.events[:3] == ["uplink.down", "uplinks.silent", "uplink.down"]


def test_an_uplink_that_fails_again_and_again_has_to_work_for_longer_before_it_is_used() -> None:
    health, now, holds = UplinkHealth(), 0, []
    for _ in range(8):
        assert health.failed("line", now)
        begun = now
        while not health.well("line", now):
            now += SECOND
        holds.append((now - begun) // SECOND)
        now += SECOND
    assert holds == [10, 20, 40, 80, 160, 320, 640, 640]
    now += CALM
    health.failed("line", now)
    assert health.hold("line") == HOLD_DOWN


def searching(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> tuple[rate_search.Finding, list[str]]:
    """The search of a line's rate, and its events with their remotes."""
    monkeypatch.setattr(rate_search, "echo_socket", lambda *_: socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)[0])
    varies = "down: 5 to 20 Mbit/s, up: 20 Mbit/s, probe: [198.51.100.10, 198.51.100.11]}"
    site = Site(tmp_path, PLAN[: PLAN.index("routes:")].replace("down: 20 Mbit/s, up: 20 Mbit/s}", varies))
    told: list[str] = []
    found = rate_search.Finding(lambda event, level, **about: told.append(f"{event} {about.get('remote')}"))
    found.arrange(site.plan, site.engine.shapers, {"fibre": 1, "mobile": 2})
    return found, told


def test_the_next_remote_is_asked_of_a_varying_lines_rate_when_one_never_answers(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found, told = searching(tmp_path, monkeypatch)
    line, now, asked = found._lines["fibre"], 0, []
    for beat in range(6 * GIVEN_UP):
        now += TICK
        if 3 * GIVEN_UP < beat < 4 * GIVEN_UP:
            line.finders["down"].saw(20 * MILLISECOND, now)
        found.beat({}, now)
        asked.append(line.remote)
    found.close()
    assert set(asked[: GIVEN_UP - 1]) == {"198.51.100.10"} and set(asked[GIVEN_UP : 2 * GIVEN_UP - 2]) == {
        "198.51.100.11"
    }
    told = [one for one in told if one.startswith("probe")]
    assert told == ["probe.unheard 198.51.100.10", f"probe.unheard {asked[4 * GIVEN_UP - 2]}"]


def test_a_line_at_its_lower_bound_is_not_said_to_become_slower(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found, told = searching(tmp_path, monkeypatch)
    finder = found._lines["fibre"].finders["down"]
    for beat in range(400):
        finder.saw((20 if beat < 20 or beat % 40 else 400) * MILLISECOND + beat % 3 * 40 * MILLISECOND, beat * TICK)
        found.beat({}, beat * TICK)
    found.close()
    assert finder.steps > 3 and finder.rate == 5_000_000
    assert not [one for one in told if one.startswith("uplink.slower")]


@pytest.mark.parametrize("family", [socket.AF_INET, socket.AF_INET6])
def test_an_echo_is_asked_for_and_known_by_its_answer(family: socket.AddressFamily) -> None:
    nonce = Nonce(77, b"12345678")
    asked = request(family, nonce, 5)
    answered = bytes((0 if family == socket.AF_INET else 129,)) + asked[1:]
    head = bytes((0x45,)) + bytes(19) if family == socket.AF_INET else b""
    assert parse_answer(family, head + answered, nonce) == 5
    for other in (Nonce(78, nonce.data), Nonce(77, b"12345679")):
        assert parse_answer(family, head + answered, other) is None
    assert parse_answer(family, head + asked, nonce) is None
    assert parse_answer(family, (head + answered)[:-1], nonce) is None
    assert parse_answer(family, b"", nonce) is None
    if family == socket.AF_INET:
        assert checksum(asked) == 0


@pytest.mark.skipif(os.geteuid() != 0, reason="raw sockets need root")
@pytest.mark.parametrize("address", ["127.0.0.1", "::1"])
def test_a_socket_for_echoes_hears_the_answers_to_its_own_and_no_others(address: str) -> None:
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    ours, others = Nonce.drawn(), Nonce.drawn()
    with echo_socket(family, ours) as end, echo_socket(family, others) as other:
        other.sendto(request(family, others, 9), (address, 0))
        end.sendto(request(family, ours, 5), (address, 0))
        assert select.select([end], [], [], 5)[0]
        time.sleep(0.1)
        data, _ = end.recvfrom(128)
        assert parse_answer(family, data, ours) == 5
        with pytest.raises(BlockingIOError):
            end.recvfrom(128)


BITS = st.integers(0, (1 << 32) - 1)


@given(st.lists(BITS.map(lambda bits: MarkUse("a rule", bits)), max_size=4), st.sets(st.integers(28_400, 28_470)))
def test_the_field_that_is_offered_is_nobodys(uses: list[MarkUse], preferences: set[int]) -> None:
    everybody = [*uses, *(MarkUse("a rule", 0, preference) for preference in preferences)]
    free = free_field(FIELD, everybody)
    used = 0
    for use in uses:
        used |= use.bits
    if any(not used >> low & 3 for low in range(30)):
        assert clashes(free, everybody) == [] and free.highest < 31
    if not clashes(FIELD, everybody):
        assert free == FIELD


@pytest.mark.parametrize(
    ("use", "meets"),
    [
        (MarkUse("routing rule 9", 1 << 24), True), (MarkUse("routing rule 9", 1 << 23), False),
        (MarkUse("routing rule 9", 1 << 31), False), (MarkUse("routing rule 28442", 0, 28_442), True),
        (MarkUse("routing rule 28443", 0, 28_443), False),
    ],
)  # fmt: skip
def test_others_that_use_the_same_bits_or_preferences_are_reported_once(
    tmp_path: Path, use: MarkUse, meets: bool
) -> None:
    site = Site(tmp_path)
    site.kernel.uses = (use,)
    for at in (0, SECOND):
        site.look(BOTH, at)
    assert site.events.count("routes.shared") == meets
