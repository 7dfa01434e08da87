"""IKE, the key exchange of IPsec (RFC 7296 §3.1), alone or with ESP on one port (RFC 3948 §2.2)."""

from wily_sluice.recognition.opening import Opening
from wily_sluice.recognition.verdict import WAIT, Answer, Verdict

_HEADER = 28  # bytes
_MARKER = bytes(4)  # that no ESP packet begins with


def look(opening: Opening) -> Answer:
    """Whether the first datagram is a message of IKE."""
    if not opening.datagrams:
        return WAIT
    datagram = opening.datagrams[0]
    message, length = datagram.payload, datagram.length
    beside_esp = message.startswith(_MARKER)
    if beside_esp:
        message, length = message[4:], length - 4
    if len(message) < _HEADER or not any(message[:8]) or int.from_bytes(message[24:28]) != length:
        return None
    version, exchange = message[17], message[18]
    if (version == 0x20 and 34 <= exchange <= 44) or (version == 0x10 and exchange in (2, 4, 5, 6, 32)):
        return Verdict("ipsec" if beside_esp else "ike", f"a message of IKE, version {version >> 4}")
    return None
