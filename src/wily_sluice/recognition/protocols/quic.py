"""QUIC, versions 1 and 2 (RFC 9000, RFC 9369): by its Initial packets, whose keys any observer can derive.

The keys come from the client's first Destination Connection ID (RFC 9001 §5.2); after a Retry, from the server's. An
Initial carries CRYPTO frames with parts of the ClientHello, in any order; a large ClientHello takes several packets
(RFC 9000 §19.6). At most PACKETS are decrypted for a conversation.
"""

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives import hashes, hmac
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.hkdf import HKDFExpand

from wily_sluice.recognition.opening import WAIT, Answer, Opening, Verdict
from wily_sluice.recognition.protocols.tls import parse_hello

# The version's salt, the bits of an Initial's type, and what the labels of its keys begin with.
VERSIONS: dict[bytes, tuple[bytes, int, bytes]] = {
    bytes.fromhex("00000001"): (bytes.fromhex("38762cf7f55934b34d179ae6a4c80cadccbb7f0a"), 0, b"quic "),
    bytes.fromhex("6b3343cf"): (bytes.fromhex("0dede3def700a6db819381be6e269dcbf9bd2ed9"), 1, b"quicv2 "),
}
PACKETS = 8
LARGEST_HELLO = 12_288  # bytes
MOST_FRAMES = 64


class _Keys:
    """The client's keys for Initial packets."""

    def __init__(self, version: bytes, connection: bytes) -> None:
        salt, _, label = VERSIONS[version]
        extract = hmac.HMAC(salt, hashes.SHA256())
        extract.update(connection)
        client = _expand(extract.finalize(), b"client in", 32)
        self._seal = AESGCM(_expand(client, label + b"key", 16))
        self._vector = _expand(client, label + b"iv", 12)
        self._mask = Cipher(algorithms.AES(_expand(client, label + b"hp", 16)), modes.ECB()).encryptor()

    def open(self, packet: bytes, number_at: int) -> bytes | None:
        """The frames of a packet, whose number stands at `number_at`; None when the keys do not fit."""
        mask = self._mask.update(packet[number_at + 4 : number_at + 20])
        first = packet[0] ^ (mask[0] & 15)
        width = (first & 3) + 1
        number = bytes(a ^ b for a, b in zip(packet[number_at : number_at + width], mask[1:], strict=False))
        header = bytes([first]) + packet[1:number_at] + number
        nonce = int.from_bytes(self._vector) ^ int.from_bytes(number)
        try:
            return self._seal.decrypt(nonce.to_bytes(12), packet[number_at + width :], header)
        except InvalidTag:
            return None


def _expand(secret: bytes, label: bytes, size: int) -> bytes:
    """HKDF-Expand-Label of RFC 8446 §7.1, with an empty context."""
    full = b"tls13 " + label
    info = size.to_bytes(2) + bytes([len(full)]) + full + b"\x00"
    return HKDFExpand(hashes.SHA256(), size, info).derive(secret)


class _Notes:
    def __init__(self) -> None:
        self.keys: _Keys | None = None
        self.read = 0  # datagrams that were looked at
        self.packets = 0
        self.parts: dict[int, bytes] = {}

    def hello(self) -> bytes | None:
        """The body of the ClientHello, once all of its parts are there."""
        data = b""
        for offset in sorted(self.parts):
            if offset > len(data):
                return None
            data += self.parts[offset][len(data) - offset :]
        if len(data) >= 4 and data[0] == 1 and len(data) >= 4 + int.from_bytes(data[1:4]):
            return data[4 : 4 + int.from_bytes(data[1:4])]
        return None


def look(opening: Opening) -> Answer:
    """Whether either side opens with an Initial packet, and the name that the client asks for."""
    if not opening.datagrams:
        return WAIT
    first = opening.datagrams[0]
    if len(first.payload) < 21 or first.payload[0] & 0xC0 != 0xC0 or first.payload[1:5] not in VERSIONS:
        return None
    notes: _Notes = opening.notes.setdefault("quic", _Notes())
    for datagram in opening.datagrams[notes.read :]:
        notes.read += 1
        if datagram.up == first.up:
            _read(notes, datagram.payload)
    if notes.keys is None:
        return None  # it looked like one, but did not open
    body = notes.hello()
    if body is not None:
        hello = parse_hello(body)
        if hello is not None:
            return Verdict("quic", f"{hello.words}, in an Initial packet of QUIC", hello.name)
    if body is not None or notes.packets >= PACKETS or notes.read > 3 * PACKETS:
        return Verdict("quic", "an Initial packet of QUIC")
    return WAIT


def _read(notes: _Notes, datagram: bytes) -> None:
    """The Initial packets of a datagram, which may contain several packets (§12.2)."""
    while len(datagram) >= 21 and datagram[0] & 0xC0 == 0xC0 and notes.packets < PACKETS:
        version = datagram[1:5]
        if version not in VERSIONS:
            return
        connection = datagram[6 : 6 + datagram[5]]
        cursor = 6 + datagram[5]
        cursor += 1 + int.from_bytes(datagram[cursor : cursor + 1])
        if datagram[0] >> 4 & 3 != VERSIONS[version][1]:
            return  # 0-RTT, Handshake or Retry: no more Initials behind it that matter
        token, cursor = _varint(datagram, cursor)
        length, cursor = _varint(datagram, cursor + token)
        packet = datagram[: cursor + length]
        if len(packet) < cursor + 20 or len(connection) > 20:
            return
        notes.packets += 1
        frames = notes.keys.open(packet, cursor) if notes.keys is not None else None
        if frames is None:  # the first, or the first after a Retry
            keys = _Keys(version, connection)
            frames = keys.open(packet, cursor)
            if frames is not None:
                notes.keys = keys
        if frames is not None:
            _gather(notes.parts, frames)
        datagram = datagram[cursor + length :]


def _gather(parts: dict[int, bytes], frames: bytes) -> None:
    """The parts of the handshake in a packet's frames (RFC 9000 §19)."""
    cursor = 0
    for _ in range(MOST_FRAMES):
        while cursor < len(frames) and frames[cursor] == 0:
            cursor += 1
        if cursor >= len(frames):
            return
        kind = frames[cursor]
        cursor += 1
        if kind == 6:
            offset, cursor = _varint(frames, cursor)
            size, cursor = _varint(frames, cursor)
            if offset + size <= LARGEST_HELLO and len(parts) < MOST_FRAMES:
                parts[offset] = max(parts.get(offset, b""), frames[cursor : cursor + size], key=len)
            cursor += size
        elif kind in (2, 3):
            for _ in range(2):
                _, cursor = _varint(frames, cursor)
            ranges, cursor = _varint(frames, cursor)
            for _ in range(min(2 * ranges + 1, 256) + (3 if kind == 3 else 0)):
                _, cursor = _varint(frames, cursor)
        elif kind != 1:
            return


def _varint(data: bytes, cursor: int) -> tuple[int, int]:
    """A number of variable length (§16), and where it ends. Beyond the end of the data it is 0."""
    if cursor >= len(data):
        return 0, cursor
    width = 1 << (data[cursor] >> 6)
    number = int.from_bytes(data[cursor : cursor + width]) & (1 << 8 * width - 2) - 1
    return number, cursor + width
