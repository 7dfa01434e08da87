"""DNS (RFC 1035 §4): questions, and the addresses in answers, with their time to live.

Every address in an answer belongs to the name in the question, through any aliases.
"""

from typing import NamedTuple

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict
from wily_sluice.recognition.protocols.tls import host_name
from wily_sluice.units import SECOND, Nanoseconds

PORT = 53
A, AAAA = 1, 28
CLASSES = (1, 3, 4, 254, 255)  # the internet, Chaos, Hesiod, none and any (RFC 6895 §3.2)
MOST_RECORDS = 32
LONGEST = 4096  # bytes of a message that is waited for
MOST_LABELS = 40
LONGEST_LIFE: Nanoseconds = 24 * 3600 * SECOND


class Told(NamedTuple):
    """A message: the name in question, whether it is an answer, and addresses with their time to live."""

    name: str
    answers: bool
    addresses: tuple[tuple[bytes, Nanoseconds], ...]


def parse(message: bytes) -> Told | None:
    """Parse a message with one question. None for anything else."""
    if len(message) < 17 or message[4:6] != b"\x00\x01" or message[2] & 0x78:
        return None
    name, offset = _name(message, 12)
    if name is None or offset + 4 > len(message) or int.from_bytes(message[offset + 2 : offset + 4]) not in CLASSES:
        return None
    offset += 4
    answers = bool(message[2] & 0x80)
    addresses: list[tuple[bytes, Nanoseconds]] = []
    for _ in range(min(int.from_bytes(message[6:8]), MOST_RECORDS) if answers else 0):
        offset = _behind_name(message, offset)
        if offset + 10 > len(message):
            break
        kind = int.from_bytes(message[offset : offset + 2])
        life = int.from_bytes(message[offset + 4 : offset + 8]) * SECOND
        size = int.from_bytes(message[offset + 8 : offset + 10])
        value = message[offset + 10 : offset + 10 + size]
        if (kind, len(value)) in ((A, 4), (AAAA, 16)):
            addresses.append((value, min(life, LONGEST_LIFE)))
        offset += 10 + size
    return Told(name, answers, tuple(addresses))


def _behind_name(message: bytes, offset: int) -> int:
    """Where the name at an offset ends."""
    for _ in range(MOST_LABELS):
        size = message[offset] if offset < len(message) else 64
        if size >= 0xC0:
            return offset + 2
        if size == 0:
            return offset + 1
        if size >= 64:
            break
        offset += 1 + size
    return len(message)


def _name(message: bytes, offset: int) -> tuple[str | None, int]:
    """The name at an offset, and its end; None instead of an invalid name. Follows pointers (§4.1.4)."""
    labels: list[bytes] = []
    end = -1  # behind the first pointer
    for _ in range(MOST_LABELS):
        if offset >= len(message):
            return None, len(message)
        size = message[offset]
        if size >= 0xC0:
            if end < 0:
                end = offset + 2
            offset = int.from_bytes(message[offset : offset + 2]) & 0x3FFF
        elif size == 0:
            # What is no host's name may be a service's (RFC 6763 §4.1), of which no use is made here.
            named = all(byte >= 0x20 for label in labels for byte in label)
            return host_name(b".".join(labels)) if named else None, end if end >= 0 else offset + 1
        elif size < 64:
            labels.append(message[offset + 1 : offset + 1 + size])
            offset += 1 + size
        else:
            break
    return None, len(message)


def look_udp(opening: Opening) -> Answer:
    """Whether the datagrams are a question, and an answer where it is not the port of DNS."""
    on_port = PORT in (opening.parties.local_port, opening.parties.remote_port)
    asked: dict[bytes, bool] = {}
    for datagram in opening.datagrams:
        answer = parse(datagram.payload)
        if answer is None:
            return None
        if on_port:
            return Verdict("dns", f"a question for {answer.name}" if answer.name else "a question of DNS")
        if answer.answers and asked.get(datagram.payload[:2]) == (not datagram.up):
            return Verdict("dns", f"a question for {answer.name} and its answer")
        asked[datagram.payload[:2]] = datagram.up
    return WAIT if len(opening.datagrams) < 4 else None


def look_tcp(opening: Opening) -> Answer:
    """Whether either side opens with a message behind its length (§4.2.2): a question on the port of DNS, or a question
    and its answer on another.
    """
    on_port = PORT in (opening.parties.local_port, opening.parties.remote_port)
    seen: dict[bytes, bool] = {}
    waits = False
    for data in opening.streams:
        size = 2 + int.from_bytes(data[:2])
        if len(data) < 14 or (size > 14 and len(data) < size <= LONGEST):
            waits = True
            continue
        message = parse(data[2:size]) if 14 < size <= len(data) else None
        if message is None:
            return None
        if on_port or seen.get(data[2:4]) == (not message.answers):
            return Verdict("dns", f"a question for {message.name or 'a service'}, over TCP")
        seen[data[2:4]] = message.answers
    return WAIT if waits else None
