"""What a rig sends to be recognised is recognised."""

import pytest

from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of, parse
from wily_sluice.engine.classify.service import Known
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.forecast.prove.example import Example
from wily_sluice.recognition.recognition import Recognition
from wily_sluice.rig.promises.traffic_program import OPENINGS, opening


def recognised(protocol: int, payloads: list[bytes]) -> Known | None:
    parties = Parties(protocol, bytes((10, 61, 0, 9)), bytes((203, 0, 113, 7)), 40_000, 39_999)
    recognition, conversation = Recognition(), Conversation(key_of(parties))
    behind = 28 if protocol == UDP else 40
    sequence = 0
    for number, payload in enumerate(payloads):
        packet = bytearray(Example(parties).header(True)[:behind] + payload)
        packet[2:4] = len(packet).to_bytes(2)
        if protocol == TCP:
            packet[24:28] = sequence.to_bytes(4)
        sequence += len(payload)
        parsed = parse(bytes(packet), True)
        assert parsed is not None
        recognition.look(conversation, parsed, bytes(packet), True, number * 20_000_000)
    return conversation.known


@pytest.mark.parametrize(("seen", "protocol"), OPENINGS)
def test_each_opening_is_recognised(seen: str, protocol: int) -> None:
    known = recognised(protocol, OPENINGS[seen, protocol]())
    assert known is not None and known.seen == seen


def test_a_named_remote_is_known_by_its_name_and_what_cannot_be_said_is_not_tried() -> None:
    said = opening(Known(names=("play.marsh-league.example",)), TCP)
    assert said is not None
    known = recognised(TCP, said)
    assert known is not None and known.names == ("play.marsh-league.example",)
    assert opening(Known("wireguard"), UDP) is None and opening(Known(names=("a.example",)), UDP) is None
