from ipaddress import ip_address

from hypothesis import given
from hypothesis import strategies as st

from tests.engine.driving import conversation, packet
from wily_sluice.engine.classify.addresses import AddressSet, NameSet, covers
from wily_sluice.engine.classify.classifier import ANYONE, Classifier, Rule
from wily_sluice.engine.classify.condition import (
    All,
    AnyOf,
    Condition,
    DscpIs,
    KindIs,
    LengthIs,
    LocalIs,
    Not,
    PortIs,
    ProtocolIs,
    RemoteIs,
)
from wily_sluice.engine.classify.header import (
    ACKNOWLEDGEMENT,
    CLOSING,
    CONTROL,
    HANDSHAKE,
    TCP,
    UDP,
    Parties,
    key_of,
    kind_of,
)
from wily_sluice.engine.classify.rule_index import Reach
from wily_sluice.engine.classify.service import Known, Service
from wily_sluice.engine.conversations.conversation import Conversation, ConversationTable
from wily_sluice.engine.conversations.watch import Behaviour, Watch, WatchSpec
from wily_sluice.engine.queueing.flow_path import STALE
from wily_sluice.units import MILLISECOND, SECOND

HOST, FAR = ip_address("10.61.0.41").packed, ip_address("203.0.113.9").packed
CALL, DOWNLOAD = Parties(UDP, HOST, FAR, 5004, 443), Parties(TCP, HOST, FAR, 5004, 443)


def sorted_to(classifier: Classifier, parties: Parties, conversation: Conversation | None = None) -> int:
    return classifier.rule(classifier.subject(conversation or Conversation(key_of(parties))))


def test_the_first_rule_that_matches_decides_and_all_limiters_apply() -> None:
    udp = ProtocolIs(frozenset({UDP}))
    rules = (Rule(PortIs(((80, 90),)), 2), Rule(udp, 1), Rule(ANYONE, 3))
    classifier = Classifier(rules, default=0, limiters=(ANYONE, PortIs(((1, 2),)), udp))
    assert sorted_to(classifier, CALL) == 1
    assert sorted_to(classifier, DOWNLOAD) == 2
    assert classifier.limits(classifier.subject(Conversation(key_of(CALL)))) == [0, 2]


def test_a_new_mark_has_a_conversation_sorted_again_and_both_directions_follow() -> None:
    classifier = Classifier((Rule(DscpIs(1 << 46), 1),), default=0, watches_dscps=True)
    table = ConversationTable(watch_dscps=True)
    found = table.find(key_of(CALL), 0, 0)
    assert sorted_to(classifier, CALL, found) == -1
    found.up_path, found.down_path = (packet(100, conversation(1)).flow_path for _ in range(2))
    assert found.up_path is not None
    assert found.down_path is not None
    table.find(key_of(CALL), 0, 1)
    assert found.up_path.epoch != STALE  # the same mark as before changes nothing
    table.find(key_of(CALL), 46, 2)
    assert found.up_path.epoch == STALE
    assert found.down_path.epoch == STALE
    table.find(key_of(CALL), 0, 3)  # an answer without the mark belongs to the same conversation
    assert sorted_to(classifier, CALL, found) == 0


addresses = st.integers(0, 7).map(lambda n: bytes([10, 0, 0, n]))
spans = st.tuples(st.integers(0, 5), st.integers(0, 3)).map(lambda span: (span[0], span[0] + span[1]))
port_ranges = st.none() | st.lists(spans, min_size=1, max_size=2).map(tuple)
sets = st.none() | st.lists(st.tuples(addresses, addresses).map(sorted).map(tuple), min_size=1, max_size=2).map(
    AddressSet
)
reaches = st.builds(
    Reach, sets, sets, st.none() | st.frozensets(st.sampled_from([TCP, UDP, 1])), port_ranges, port_ranges, port_ranges
)
people = st.builds(Parties, st.sampled_from([TCP, UDP, 1]), addresses, addresses, st.integers(0, 8), st.integers(0, 8))


def asked(reach: Reach) -> Condition:
    parts: list[Condition] = []
    if reach.local is not None:
        parts.append(LocalIs(reach.local))
    if reach.remote is not None:
        parts.append(RemoteIs(reach.remote))
    if reach.protocols is not None:
        parts.append(ProtocolIs(reach.protocols))
    for ranges, local, remote in (
        (reach.ports, True, True),
        (reach.local_ports, True, False),
        (reach.remote_ports, False, True),
    ):
        if ranges is not None:
            parts.append(PortIs(ranges, local, remote))
    return All(tuple(parts))


@given(st.lists(reaches, max_size=12), people)
def test_the_index_gives_exactly_the_rules_that_hold_by_addresses_protocol_and_ports(
    drawn: list[Reach], parties: Parties
) -> None:
    indexed = Classifier(tuple(Rule(ANYONE, 0, reach=reach) for reach in drawn), 0)
    questions = Classifier(tuple(Rule(asked(reach), 0) for reach in drawn), 0)
    assert sorted_to(indexed, parties) == sorted_to(questions, parties)


def test_whoever_asks_is_told_the_field_that_fails() -> None:
    known = Conversation(key_of(CALL))
    known.known = Known("quic", ("meet.example",))
    subject = Classifier((), 0).subject(known)
    udp, port = ProtocolIs(frozenset({UDP})), PortIs(((5060, 5060),), local=False)
    meet = RemoteIs(AddressSet(), NameSet(["*.example"]))
    assert All((udp, meet)).fails(subject) == ""
    assert All((udp, port)).fails(subject) == "remote-port"
    assert AnyOf((port, meet)).fails(subject) == ""
    assert All((Not(meet), port)).fails(subject) == "not"


def test_names_match_themselves_and_a_star_all_below() -> None:
    names = NameSet(["Meet.example.", "*.films.example"])
    assert "meet.example" in names
    assert "a.b.films.example" in names
    assert "films.example" not in names
    assert "xfilms.example" not in names
    assert covers("*.example", "*.films.example")
    assert covers("*.example", "films.example")
    assert not covers("*.films.example", "films.example")
    assert not covers("*.films.example", "*.example")


def test_a_port_speaks_for_a_service_until_something_else_was_seen() -> None:
    signalling = Service("signalling", ports={UDP: ((443, 443),)}, seen=frozenset({"sip"}))
    assert signalling.sign(CALL, Known(), "") == "has port 443"
    assert signalling.sign(CALL, Known("quic"), "") == ""
    assert signalling.sign(CALL._replace(remote_port=9), Known("sip"), "") == "speaks sip"
    play = Service("play", names=NameSet(["*.league.example"]), shape="interactive")
    fetched = Known("quic", ("cdn.league.example",))
    assert play.sign(CALL, fetched, "bulk") == ""
    assert play.sign(CALL, fetched, "interactive") == "is with cdn.league.example"


def test_what_was_moved_has_a_conversation_sorted_again_once_for_each_size_that_rules_ask_for() -> None:
    watch = Watch(WatchSpec(sizes=(20_000, 3000)))
    changes = [number for number in range(1, 31) if watch.saw(True, 1000, number)]
    assert changes == [4, 21]  # over is more than
    assert watch.moved == 30_000


def test_an_exchange_that_is_over_within_a_second_is_not_interactive_and_one_that_goes_on_is() -> None:
    behaviour = Behaviour()
    shapes = []
    for number in range(200):
        behaviour.saw(number % 2 == 0, 90, number * 8 * MILLISECOND)
        shapes.append(behaviour.shape)
    assert set(shapes[: 1000 // 8]) == {""}
    assert shapes[-1] == "interactive"


def test_a_rate_holds_once_it_has_lasted_and_ends_with_a_pause() -> None:
    # 1000 bytes every 4 ms are 2 Mbit/s; 1.6 Mbit/s for 10 s is asked for.
    watch = Watch(WatchSpec(rates=((1_600_000, 10 * SECOND),)))
    changes = [now for now in range(0, 12_000, 4) if watch.saw(False, 1000, now * MILLISECOND)]
    assert changes == [10_000]
    assert watch.fast == 1
    assert watch.saw(False, 1000, 40 * SECOND)
    assert watch.fast == 0
    slower = Watch(WatchSpec(rates=((2_100_000, 10 * SECOND),)))
    assert not any(slower.saw(False, 1000, now * MILLISECOND) for now in range(0, 30_000, 4))


def test_a_call_behaves_interactively_and_a_download_is_bulk_and_one_may_become_the_other() -> None:
    watch = Watch(WatchSpec(behaviour=True))
    for number in range(101):
        watch.saw(number % 2 == 0, 200, number * 10 * MILLISECOND)
    assert watch.shape == "interactive"
    for number in range(1200):
        watch.saw(number % 30 == 0, 60 if number % 30 == 0 else 1400, SECOND + number * MILLISECOND)
    assert watch.shape == "bulk"
    page = Watch(WatchSpec(behaviour=True))
    for number in range(60):
        page.saw(number % 3 == 0, 100 if number % 3 == 0 else 1200, number * MILLISECOND)
    assert page.shape == ""


def test_packets_of_a_kind_may_have_a_queue_of_their_own() -> None:
    classifier = Classifier((Rule(KindIs(ACKNOWLEDGEMENT | HANDSHAKE), 1),), 0, kinds=ACKNOWLEDGEMENT | HANDSHAKE)
    acknowledges = kind_of(TCP, flags=16, length=52, headers=52)
    assert acknowledges == ACKNOWLEDGEMENT
    assert kind_of(TCP, flags=16 | 8, length=1500, headers=52) == 0
    assert kind_of(TCP, flags=2, length=60, headers=60) == HANDSHAKE
    assert [kind_of(TCP, flags, 52, 52) for flags in (1 | 16, 4, 4 | 16)] == [CLOSING] * 3  # FIN, RST
    assert kind_of(58, 0, 48, 48) == CONTROL and kind_of(17, 0, 48, 48) == 0
    found = Conversation(key_of(DOWNLOAD))
    assert classifier.rule(classifier.subject(found, acknowledges)) == 0
    assert classifier.rule(classifier.subject(found, 0)) == -1


def test_rules_set_packets_apart_by_length_and_only_there_where_they_ask() -> None:
    rules = (Rule(LengthIs(128, over=False), 1), Rule(LengthIs(1000, over=True), 2))
    classifier = Classifier(rules, 0, kinds=ACKNOWLEDGEMENT, lengths=(128, 1000))
    found = Conversation(key_of(DOWNLOAD))
    lengths = (40, 128, 129, 1000, 1001, 1500)
    assert [classifier.rule(classifier.subject(found, 0, length)) for length in lengths] == [0, 0, -1, -1, 1, 1]
    apart = [classifier.apart(0, length) for length in lengths]
    assert [classifier.sort_of(one) for one in apart] == [
        (0, 128),
        (0, 128),
        (0, 1000),
        (0, 1000),
        (0, None),
        (0, None),
    ]
    assert classifier.sort_of(classifier.apart(ACKNOWLEDGEMENT | HANDSHAKE, 60)) == (ACKNOWLEDGEMENT, 128)
    assert Classifier(rules, 0).apart(ACKNOWLEDGEMENT, 60) == 0
