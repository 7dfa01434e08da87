"""The WireGuard protocol (its paper, Donenfeld 2017, §5.4): by the shape of its handshake.

The first message is of type 1 and 148 bytes, the answer of type 2 and 92 bytes, and it repeats the index that the first
one gave.
"""

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

_INITIATION, _RESPONSE, _DATA = (bytes([kind, 0, 0, 0]) for kind in (1, 2, 4))


def look(opening: Opening) -> Answer:
    """Whether the handshake is present; only probable if one side, or only later packets, were seen."""
    index, likely = None, None
    for datagram in opening.datagrams:
        payload = datagram.payload
        if payload[:4] == _INITIATION and datagram.length == 148:
            index, asked = payload[4:8], datagram.up
            likely = Verdict("wireguard", "the first message of a WireGuard handshake", certain=False)
        elif payload[:4] == _RESPONSE and datagram.length == 92:
            if index is not None and payload[8:12] == index and datagram.up != asked:
                return Verdict("wireguard", "both messages of a WireGuard handshake")
            likely = Verdict("wireguard", "the second message of a WireGuard handshake", certain=False)
        elif payload[:4] == _DATA and datagram.length >= 32 and datagram.length % 16 == 0:
            likely = likely or Verdict("wireguard", "messages in the shape of WireGuard's data", certain=False)
        else:
            return None
    return WAIT if len(opening.datagrams) < 6 else likely
