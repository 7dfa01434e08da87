"""PCP (RFC 6887) and NAT-PMP (RFC 6886): what is said, byte by byte, and who gets what."""

import random
from pathlib import Path

import pytest

from wily_sluice.outside.files import load
from wily_sluice.ports.answers import Answer, Answers
from wily_sluice.ports.mapping_table import MOST_MAPPINGS, REVOKED_FOR, Book, Sender
from wily_sluice.units import SECOND

PLAN = """\
site: Ports
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 20 Mbit/s}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, '2001:db8:7::/64']}
groups:
  room: [10.7.0.100, 10.7.0.101, '2001:db8:7::100']
trees:
  main: {queues: {rest: {default: true}}}
mappings:
  - {name: Play, local: room, protocol: udp, port: [3000-3003, 7000], count: 2, lifetime: 1 h}
  - {name: Desk, local: 10.7.0.102, port: [3003/tcp, 4000/tcp], lifetime: 10 s, uplink: mobile}
"""
EXTERNAL = {"fibre": bytes((192, 0, 2, 2)), "mobile": bytes((192, 0, 2, 6))}
HOST, OTHER, DESK, STRANGER = (bytes((10, 7, 0, last)) for last in (100, 101, 102, 103))
SIX = bytes.fromhex("20010db8000700000000000000000100")
NONCE = b"twelve bytes"
EPOCH = 77


class Site:
    """`busy` are ports of the gateway itself."""

    def __init__(self, tmp_path: Path) -> None:
        file = tmp_path / "sluice.yaml"
        file.write_text(PLAN)
        self.busy: set[tuple[int, int]] = set()
        self.now = EPOCH * SECOND
        self.book = Book(lambda uplink: EXTERNAL.get(uplink, b""), lambda: self.busy)
        self.book.follow(load(file).granting)
        self.answers = Answers(self.book, 0, lambda: EXTERNAL["fibre"])

    def full(self, data: bytes, source: bytes = HOST, device: bytes = b"") -> Answer:
        answer = self.answers.answer(data, Sender(source, device), self.now)
        assert answer is not None
        return answer

    def ask(self, data: str | bytes, source: bytes = HOST) -> str:
        return self.full(bytes.fromhex(data) if isinstance(data, str) else data, source).data.hex(" ", -4)


@pytest.fixture
def site(tmp_path: Path) -> Site:
    return Site(tmp_path)


def wish(
    inside: int,
    outside: int = 0,
    lifetime: int = 600,
    host: bytes = HOST,
    protocol: int = 17,
    nonce: bytes = NONCE,
    options: bytes = b"",
    external: bytes = bytes(16),
) -> bytes:
    client = bytes(10) + b"\xff\xff" + host if len(host) == 4 else host
    head = bytes((2, 1, 0, 0)) + lifetime.to_bytes(4) + client
    return head + nonce + bytes((protocol, 0, 0, 0)) + inside.to_bytes(2) + outside.to_bytes(2) + external + options


def result(answer: str) -> int:
    return int(answer.split()[0][6:8], 16)


def ports(answer: str) -> tuple[int, int]:
    word = answer.split()[10]
    return int(word[:4], 16), int(word[4:], 16)


def lifetime(answer: str) -> int:
    return int(answer.split()[1], 16)


def test_a_map_request_is_answered_byte_by_byte(site: Site) -> None:
    # §7.1, §11.1: version 2, MAP, 600 s, from ::ffff:10.7.0.100; UDP, inside 3000, any port and address outside.
    asked = """
        02 01 0000 00000258 00000000 00000000 0000ffff 0a070064
        74776c766520627974657321 11 000000 0bb8 0000 00000000 00000000 00000000 00000000"""
    # §7.2, Figure 10: a response, success, 600 s, epoch 77; 3000 at ::ffff:192.0.2.2.
    said = """
        02 81 00 00 00000258 0000004d 00000000 00000000 00000000
        74776c766520627974657321 11 000000 0bb8 0bb8 00000000 00000000 0000ffff c0000202"""
    assert site.ask(asked) == bytes.fromhex(said).hex(" ", -4)
    # The same again, without a change but of the time; and its end (§15.1).
    site.now += 100 * SECOND
    assert site.ask(asked) == bytes.fromhex(said.replace("0000004d", "000000b1")).hex(" ", -4)
    ended = site.full(bytes.fromhex(asked.replace("00000258", "00000000")))
    assert (len(ended.ended), lifetime(ended.data.hex(" ", -4)), site.book.mappings) == (1, 0, {})


def test_errors_of_pcp_say_what_was_asked_and_why_not(site: Site) -> None:
    longer, unknown = bytes.fromhex("000003e8") + bytes(8), bytes.fromhex("40000008") + bytes(8)
    for asked, source, code, kept in (
        (bytes((1, 1)) + wish(3000)[2:], HOST, 1, 60),  # another version: ours is told
        (bytes((2, 2)) + wish(3000)[2:], HOST, 4, 60),  # PEER is not served
        (wish(3000)[:40], HOST, 3, 40),
        (wish(3000) + bytes(1), HOST, 3, 64),
        (wish(3000) + bytes(1100), HOST, 3, 1100),
        (wish(3000, protocol=0), HOST, 3, 60),
        (wish(3000) + longer, HOST, 6, 72),
        (wish(3000) + unknown, HOST, 5, 72),
        (wish(3000, options=bytes.fromhex("01000010") + bytes(16)), HOST, 5, 80),  # THIRD_PARTY is not served
        (wish(3000, options=bytes.fromhex("02000004") + bytes(4)), HOST, 6, 68),
        (wish(3000, options=bytes.fromhex("03000014") + bytes(4)), HOST, 6, 68),
        (wish(3000, protocol=132), HOST, 9, 60),
        (wish(3000), OTHER, 12, 60),
        (wish(3000, host=STRANGER), STRANGER, 2, 60),
        (wish(22), HOST, 2, 60),
        (wish(3000, protocol=6), HOST, 2, 60),
        (wish(0), HOST, 2, 60),  # all ports at once
        (
            wish(3000, external=bytes(10) + b"\xff\xff" + EXTERNAL["mobile"], options=bytes.fromhex("02000000")),
            HOST,
            11,
            64,
        ),
    ):
        answer = site.full(asked, source)
        assert (answer.data[:4], len(answer.data)) == (bytes((2, asked[1] | 0x80, 0, code)), kept), code
        assert answer.data[8:24] == EPOCH.to_bytes(4) + bytes(12)
        assert answer.data[24:] == (asked[24:] + bytes(3))[: kept - 24]
        assert int.from_bytes(answer.data[4:8]) == (30 if code == 11 else 1800)
        assert not answer.changed
    assert site.answers.answer(b"\x02", Sender(HOST), 0) is None
    assert site.answers.answer(bytes((2, 0x81)) + wish(3000)[2:], Sender(HOST), 0) is None  # a response
    assert site.book.mappings == {}


def test_who_has_which_port(site: Site) -> None:
    assert ports(site.ask(wish(3000, 3001))) == (3000, 3001)
    assert result(site.ask(wish(3000, nonce=b"another one!"))) == 2
    site.busy.add((17, 7000))
    assert ports(site.ask(wish(3001, host=OTHER), OTHER))[1] != 3001
    assert ports(site.ask(wish(7000, 7000)))[1] != 7000  # the gateway itself listens there
    assert len({one.outside for one in site.book.mappings.values()} - {7000}) == 3
    assert result(site.ask(wish(3002))) == 10  # the third of a host that has two
    assert result(site.ask(wish(3002, 3001, host=OTHER, options=bytes.fromhex("02000000")), OTHER)) == 11
    # Over IPv6 nothing is translated, and it is of no concern who has the port elsewhere.
    six = site.ask(wish(3000, 3001, host=SIX), SIX)
    assert (ports(six), six[-35:].replace(" ", "")) == ((3000, 3000), SIX.hex())
    assert result(site.ask(wish(3001, 3002, host=SIX, options=bytes.fromhex("02000000")), SIX)) == 11
    # TCP on another uplink, for no longer than the plan says.
    desk = site.ask(wish(4000, host=DESK, protocol=6, lifetime=99_999), DESK)
    assert (ports(desk), lifetime(desk), desk.split()[-1]) == ((4000, 4000), 10, EXTERNAL["mobile"].hex())
    assert lifetime(site.ask(wish(3000, lifetime=1))) == 120
    assert lifetime(site.ask(wish(3000, lifetime=2**32 - 1))) == 3600


def test_an_mapping_lasts_as_long_as_it_is_asked_for_and_granted(site: Site) -> None:
    for inside in (3000, 3001):
        site.ask(wish(inside))
    site.now += 500 * SECOND
    site.ask(wish(3001))
    assert [one.inside for one in site.book.expire(site.now + 99 * SECOND)] == []
    assert [one.inside for one in site.book.expire(site.now + 100 * SECOND)] == [3000]
    assert [one.inside for one in site.book.revoke(HOST, None, None, site.now)] == [3001]
    assert result(site.ask(wish(3001))) == 2
    site.now += REVOKED_FOR
    assert result(site.ask(wish(3001))) == 0
    grants = site.book._grants
    assert site.book.follow(grants) == []
    assert len(site.book.follow(grants[1:])) == 1
    assert result(site.ask(wish(3001))) == 2


def test_filters_add_up_until_they_are_taken_back(site: Site) -> None:
    def remote(bits: int, last: int) -> bytes:
        return (
            bytes.fromhex("03000014")
            + bytes((0, bits))
            + bytes(2)
            + bytes(10)
            + b"\xff\xff"
            + bytes((203, 0, 113, last))
        )

    both = site.full(wish(3000, options=remote(128, 1) + remote(120, 0)))
    assert both.opened is not None and both.data.endswith(remote(128, 1) + remote(120, 0))
    assert [(one.length, one.address[-1]) for one in both.opened.filters] == [(32, 1), (24, 0)]
    more = site.full(wish(3000, options=remote(128, 2))).opened
    assert more is not None and len(more.filters) == 3
    assert result(site.ask(wish(3000, options=b"".join(remote(128, last) for last in range(9))))) == 13
    assert result(site.ask(wish(3000, options=remote(90, 1)))) == 6
    none = site.full(wish(3000, options=remote(0, 0))).opened
    assert none is not None and none.filters == ()


def test_an_announcement_says_since_when_the_mappings_are_kept(site: Site) -> None:
    asked = bytes.fromhex("02 00 0000 00000000 00000000 00000000 0000ffff 0a070064")
    assert site.ask(asked) == bytes.fromhex("02 80 00 00 00000000 0000004d").hex(" ", -4) + " 00000000" * 3


def test_nat_pmp_is_answered_byte_by_byte(site: Site) -> None:
    for asked, said in (
        ("00 00", "00 80 0000 0000004d c0000202"),  # §3.2
        ("00 01 0000 0bb8 0bb9 00000258", "00 81 0000 0000004d 0bb8 0bb9 00000258"),  # §3.3
        ("00 01 0000 0bb8 0000 00000258", "00 81 0000 0000004d 0bb8 0bb9 00000258"),  # again: as before
        ("00 02 0000 0bb8 0bb9 00000258", "00 82 0002 0000004d 0bb8 0bb9 00000000"),  # no TCP for this host
        ("00 01 0000 0bb8 0000 00000000", "00 81 0000 0000004d 0bb8 0000 00000000"),  # §3.4
        ("00 03 0000 0bb8 0000 00000258", "00 83 0005 0000004d"),  # §3.5
    ):
        assert site.ask(asked) == bytes.fromhex(said).hex(" ", -4), asked
    assert site.book.mappings == {}
    assert site.answers.answer(bytes.fromhex("00 01 0000"), Sender(HOST), 0) is None
    assert site.answers.answer(bytes.fromhex("00 81 0000"), Sender(HOST), 0) is None
    # All of a protocol at once; and what was asked for by PCP belongs to who knows its nonce.
    site.ask(wish(3000))
    site.ask("00 01 0000 0bb9 0000 00000258")
    assert site.ask("00 01 0000 0bb8 0000 00000000").startswith("00810002")
    assert site.ask("00 01 0000 0000 0000 00000000").startswith("00810000")
    assert [one.by for one in site.book.mappings.values()] == ["PCP"]


MAC, THEIRS = b"\x02\x00\x5e\x10\x00\x01", b"\x02\x00\x5e\x10\x00\x02"


def test_counts_are_of_a_device_whatever_addresses_it_writes(site: Site) -> None:
    def asked(port: int, source: bytes, device: bytes) -> int:
        return result(site.full(wish(port, host=source), source, device).data.hex(" ", -4))

    assert [asked(3000, HOST, MAC), asked(3001, OTHER, MAC), asked(3002, OTHER, MAC)] == [0, 0, 10]
    assert asked(3002, OTHER, THEIRS) == 0  # another device has its own two
    assert asked(3000, SIX, MAC) == 0  # and so has the other version of IP


def test_a_neighbour_does_not_end_or_extend_what_another_device_has(site: Site) -> None:
    site.full(wish(3000), HOST, MAC)
    ends = site.book.mappings[HOST, 17, 3000].ends
    site.now += 60 * SECOND
    assert result(site.full(wish(3000), HOST, THEIRS).data.hex(" ", -4)) == 2
    assert not site.full(wish(3000, lifetime=0), HOST, THEIRS).ended
    old = "00 01 0000 0bb9 0000 00000258"
    site.full(bytes.fromhex(old), HOST, MAC)
    assert not site.full(bytes.fromhex("00 01 0000 0000 0000 00000000"), HOST, THEIRS).ended
    assert site.book.mappings[HOST, 17, 3000].ends == ends and len(site.book.mappings) == 2
    assert site.full(wish(3000, lifetime=0), HOST, MAC).ended


def test_revoked_a_device_is_barred_from_what_was_named_as_long_as_it_would_have_had_it(site: Site) -> None:
    asked = [(3000, HOST), (3001, HOST), (3001, OTHER)]

    def results() -> list[int]:
        return [result(site.full(wish(port, host=host), host, MAC).data.hex(" ", -4)) for port, host in asked]

    for kind, port, then in ((17, 3000, [2, 0, 10]), (17, None, [2, 2, 2]), (None, None, [2, 2, 2])):
        site.book.follow(site.book._grants)
        site.book.mappings.clear()
        assert results() == [0, 0, 10]
        assert site.book.revoke(HOST, kind, port, site.now)
        if port is not None:
            site.full(wish(3002), HOST, MAC)
        assert results() == then
    site.now += REVOKED_FOR
    site.book.expire(site.now)
    assert results() == [0, 0, 10]


def test_a_host_of_the_other_version_does_not_take_a_port_outside(site: Site) -> None:
    assert ports(site.ask(wish(3000, host=SIX), SIX)) == (3000, 3000)
    assert ports(site.ask(wish(3000))) == (3000, 3000)


def test_a_hundred_thousand_malformed_packets_open_nothing_that_is_not_granted(site: Site) -> None:
    drawn = random.Random(19)
    option = bytes.fromhex("03000014") + bytes((0, 128)) + bytes(2) + bytes(10) + b"\xff\xff" + bytes((203, 0, 113, 1))
    seeds = [
        wish(3000),
        wish(3001, options=bytes.fromhex("02000000")),
        wish(7000, options=option),
        bytes.fromhex("00 01 0000 0bb8 0bb9 00000258"),
        bytes.fromhex("02 00 0000 00000000 00000000 00000000 0000ffff 0a070064"),
        b"",
    ]
    answered = 0
    for _ in range(100_000):
        data = bytearray(drawn.choice(seeds))
        for _ in range(drawn.randrange(4)):
            if data:
                data[drawn.randrange(len(data))] = drawn.randrange(256)
        if drawn.random() < 0.3:
            data = data[: drawn.randrange(len(data) + 1)] + drawn.randbytes(drawn.randrange(80))
        source = drawn.choice((HOST, HOST, OTHER, STRANGER, SIX))
        site.now += SECOND // 10
        answer = site.answers.answer(bytes(data), Sender(source), site.now)
        if answer is not None:
            answered += 1
            assert len(answer.data) <= max(1100, len(data)) and answer.data[1] & 0x80
        site.book.expire(site.now)
        for one in site.book.mappings.values():
            assert one.host in (HOST, OTHER, SIX)
            assert one.protocol == 17 and {one.inside, one.outside} <= {3000, 3001, 3002, 3003, 7000}
    assert answered > 30_000
    assert len(site.book.mappings) <= 6 < MOST_MAPPINGS
