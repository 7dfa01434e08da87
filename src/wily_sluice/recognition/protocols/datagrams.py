"""Protocols of datagrams, known by their first bytes: IKE, WireGuard, NTP and SSP.

IKE, the key exchange of IPsec (RFC 7296 §3.1), alone or with ESP on one port (RFC 3948 §2.2).

NTP (RFC 5905 §7.3): a question of a client and the answer, on the port of NTP.

The WireGuard protocol (its paper, Donenfeld 2017, §5.4): by the shape of its handshake.

The first message is of type 1 and 148 bytes, the answer of type 2 and 92 bytes, and it repeats the index that the first
one gave.

SSP, the state synchronization protocol of remote terminals over UDP: by the first bytes of its datagrams.

Each begins with 64 bits in the clear; the highest is the direction and the others count from 0. Source: Winstein and
Balakrishnan, "An interactive remote shell for mobile clients", USENIX ATC 2012, §2.2.
"""

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict

_HEADER = 28  # bytes
_MARKER = bytes(4)  # that no ESP packet begins with


def look_ike(opening: Opening) -> Answer:
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


_INITIATION, _RESPONSE, _DATA = (bytes([kind, 0, 0, 0]) for kind in (1, 2, 4))


def look_wireguard(opening: Opening) -> Answer:
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


NTP_PORT = 123
CLIENT, SERVER = 3, 4
NTP_HEADER = 48  # bytes


def look_ntp(opening: Opening) -> Answer:
    """Whether a server answers a client."""
    if NTP_PORT not in (opening.parties.local_port, opening.parties.remote_port):
        return None
    asked: set[tuple[bool, bytes]] = set()
    likely: Verdict | None = None
    for datagram in opening.datagrams:
        payload = datagram.payload
        version, mode = (payload[0] >> 3 & 7, payload[0] & 7) if payload else (0, 0)
        if len(payload) < NTP_HEADER or not 1 <= version <= 4 or mode not in (CLIENT, SERVER):
            return None
        if mode == CLIENT:
            asked.add((datagram.up, payload[40:48]))
            if any(payload[32:40]):
                asked.add((datagram.up, payload[32:40]))  # what an interleaved answer refers to (RFC 9769 §2)
            likely = Verdict("ntp", "a question of NTP on its port", certain=False)
        elif (not datagram.up, payload[24:32]) in asked:
            return Verdict("ntp", "a question of NTP and its answer")
    return WAIT if len(opening.datagrams) < 4 else likely


NUMBERED = 3  # datagrams each way
SSP_HEADER = 24  # bytes: the number, and the tag that what follows is checked by
LARGEST_GAP = 4  # of numbers, where some were lost
TO_CLIENT = 1 << 63


def look_ssp(opening: Opening) -> Answer:
    """Whether both sides count so; the client's first number is 0."""
    if not opening.datagrams:
        return WAIT
    client = opening.datagrams[0].up
    following = {True: 0, False: 0}  # by whether the client sends it
    counted = {True: 0, False: 0}
    for datagram in opening.datagrams:
        from_client = datagram.up == client
        number = int.from_bytes(datagram.payload[:8]) - (0 if from_client else TO_CLIENT)
        if datagram.length < SSP_HEADER or not 0 <= number - following[from_client] < LARGEST_GAP:
            return None
        if from_client and not counted[True] and number:
            return None
        following[from_client] = number + 1
        counted[from_client] += 1
    if min(counted.values()) >= NUMBERED:
        return Verdict("ssp", f"both sides number their datagrams from 0, {NUMBERED} of each seen")
    return WAIT
