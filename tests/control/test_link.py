"""What the gate and the process beside it say to each other."""

import random
import socket

import msgspec
import pytest

from wily_sluice.control.link import link as module
from wily_sluice.control.link.link import Link, Orders, OtherVersion
from wily_sluice.control.link.messages import FromGate, Health, Heard, Rows, Tick, ToGate, Watch
from wily_sluice.errors import RpcError
from wily_sluice.gate.observers import CounterRow


def ends() -> tuple[Link[ToGate], Link[FromGate]]:
    gate, desk = socket.socketpair()
    return Link(gate, ToGate), Link(desk, FromGate)


def test_messages_come_as_they_were_sent_whatever_their_size() -> None:
    gate, desk = ends()
    rows = [CounterRow("flow", "line", "up", (bytes(4), "rule", ""), n, n, 0, 0, 0, 0, n, (1, 2)) for n in range(5000)]
    sent = [Rows(rows), Tick(1.5, 10**9, Health(busy=0.5), [], [(bytes(16), "www.example")])]
    for message in sent:
        gate.send(message)
    found: list[FromGate] = []
    while len(found) < 2:
        gate.flush()
        found += desk.receive()
    assert found == sent
    desk.send(Watch(5, True))
    assert gate.receive() == [Watch(5, True)]


def test_only_who_waits_for_an_answer_is_told_by_an_error_that_the_gate_has_ended() -> None:
    gate, raw = socket.socketpair()
    orders = Orders(Link(raw, FromGate), lambda _: None, lambda: None, lambda _: None)
    gate.close()
    orders.announce(Heard())
    with pytest.raises(RpcError, match="has ended"):
        orders.tell(Heard())


def test_a_field_that_one_side_does_not_know_is_no_matter() -> None:
    wider = msgspec.defstruct("Watch", [("extra", int), ("pace", int), ("conversations", bool)], tag=True)
    body = msgspec.msgpack.encode(wider(1, 2, True))
    assert msgspec.msgpack.decode(body, type=ToGate) == Watch(2, True)


def test_another_version_is_told_apart_before_anything_is_taken_from_it(monkeypatch: pytest.MonkeyPatch) -> None:
    here, there = socket.socketpair()
    with monkeypatch.context() as patch:
        patch.setattr(module, "PROTOCOL", "other")
        patch.setattr(module, "__version__", "9.9")
        other: Link[FromGate] = Link(there, FromGate)
    other.send(Watch(1, True))
    gate: Link[ToGate] = Link(here, ToGate)
    with pytest.raises(OtherVersion, match=r"9\.9"):
        gate.receive()


@pytest.mark.parametrize("count", [300, pytest.param(100_000, marks=pytest.mark.slow)])
def test_nonsense_ends_the_link_and_nothing_else(count: int) -> None:
    drawn = random.Random(3)
    good = msgspec.msgpack.encode(Rows([CounterRow("queue", "line", "up", "rest", 1, 1, 0, 0, 0, 0, 1)]))
    ended = 0
    for _ in range(count):
        gate, raw = socket.socketpair()
        sender: Link[ToGate] = Link(gate, ToGate)
        desk: Link[FromGate] = Link(raw, FromGate)
        desk.receive()
        body = bytearray(good)
        for _ in range(drawn.randrange(1, 4)):
            body[drawn.randrange(len(body))] = drawn.randrange(256)
        sender._end.send((len(body) if drawn.random() < 0.9 else drawn.randrange(1 << 32)).to_bytes(4) + bytes(body))
        try:
            desk.receive()
        except EOFError:
            ended += 1
        sender.close()
        desk.close()
    assert ended > count // 3
