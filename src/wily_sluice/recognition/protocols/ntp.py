"""NTP (RFC 5905 §7.3): a question of a client and the answer, on the port of NTP."""

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

PORT = 123
CLIENT, SERVER = 3, 4
HEADER = 48  # bytes


def look(opening: Opening) -> Answer:
    """Whether a server answers a client."""
    if PORT not in (opening.parties.local_port, opening.parties.remote_port):
        return None
    asked: set[tuple[bool, bytes]] = set()
    likely: Verdict | None = None
    for datagram in opening.datagrams:
        payload = datagram.payload
        version, mode = (payload[0] >> 3 & 7, payload[0] & 7) if payload else (0, 0)
        if len(payload) < HEADER or not 1 <= version <= 4 or mode not in (CLIENT, SERVER):
            return None
        if mode == CLIENT:
            asked.add((datagram.up, payload[40:48]))
            if any(payload[32:40]):
                asked.add((datagram.up, payload[32:40]))  # what an interleaved answer refers to (RFC 9769 §2)
            likely = Verdict("ntp", "a question of NTP on its port", certain=False)
        elif (not datagram.up, payload[24:32]) in asked:
            return Verdict("ntp", "a question of NTP and its answer")
    return WAIT if len(opening.datagrams) < 4 else likely
