"""BitTorrent: the handshake of peers (BEP 3), their queries for peers (BEP 5, BEP 15), their transport (BEP 29).

Encrypted peer connections (message stream encryption) look like random bytes and are not recognised.
"""

import re

from wily_sluice.recognition.opening import WAIT, Answer, Datagram, Opening, Verdict

HANDSHAKE = b"\x13BitTorrent protocol"
_QUERY = re.compile(rb"d(2:ip\d{1,2}:.{6,18}?)?1:[arev]", re.DOTALL)
_ID = b"2:id20:"
_SYN, _STATE = 0x41, 0x21  # type and version of uTP's first two packets
_UTP_HEADER = 20  # bytes
_TRACKER = bytes.fromhex("00000417 27101980 00000000")  # connection_id of the first request, and its action


def look_tcp(opening: Opening) -> Answer:
    """Whether either side opens with the handshake."""
    waits = False
    for data in opening.streams:
        if data.startswith(HANDSHAKE):
            return Verdict("bittorrent", "the handshake of BitTorrent's peers")
        waits = waits or HANDSHAKE.startswith(data)
    return WAIT if waits else None


def look_dht(opening: Opening) -> Answer:
    """Whether a datagram asks for peers: of the table, after which a transfer may follow, or of a tracker."""
    for datagram in opening.datagrams:
        if datagram.length == 16 and datagram.payload.startswith(_TRACKER):
            return Verdict("bittorrent", "a request to a tracker of BitTorrent over UDP (BEP 15)")
        if _is_query(datagram.payload):
            return Verdict("dht", "a message of BitTorrent's distributed table", final=False)
    return WAIT if len(opening.datagrams) < 2 else None


def look_utp(opening: Opening) -> Answer:
    """Whether two datagrams open a conversation of uTP; messages of the distributed table are passed over."""
    opened: dict[bytes, Datagram] = {}
    for datagram in opening.datagrams:
        payload = datagram.payload
        if _is_query(payload):
            continue
        if len(payload) < _UTP_HEADER or payload[0] & 15 != 1 or payload[0] >> 4 > 4 or payload[1] > 4:
            return None
        if payload[0] == _SYN:
            opened[payload[2:4]] = datagram
        asked = opened.get(payload[2:4])
        if payload[0] == _STATE and asked is not None and asked.up != datagram.up:
            return Verdict("utp", "a conversation of uTP is opened and accepted")
    return WAIT


def _is_query(payload: bytes) -> bool:
    if not _QUERY.match(payload[:64]) or not payload.endswith(b"e"):
        return False
    return b"1:y1:" in payload[-64:] and (_ID in payload[:96] or b"1:eli" in payload[:32])
