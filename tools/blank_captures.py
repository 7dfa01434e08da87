"""Blanks in captures what programs and machines say of themselves: `python -m tools.blank_captures CAPTURE…`.

What `tests.recognition.wording` does not know becomes a row of x of the same length: in text from the first such word to
the end of the line, in other packets the word, or the long run that holds it. Checksums are made right again.
"""

import re
import struct
import sys
from pathlib import Path

import dpkt

from tests.recognition.wording import BENCODED, CODE, GREETING, RUN, VERSION, WORDLIKE, WORDS, first_unknown, is_text

LONG = 20  # bytes of a run that is no chance
LETTERS = re.compile(rb"[A-Za-z0-9]")
TCP, UDP = 6, 17
CHECKSUM_AT = {TCP: 16, UDP: 6}


def blanked(payload: bytes) -> bytes:
    """The payload with x for what is nobody's business."""
    payload = GREETING.sub(lambda line: line[0][:4] + re.sub(rb"[^\r\n :]", b"x", line[0][4:]), payload)
    payload = CODE.sub(
        lambda code: re.sub(rb"%2D|[A-Za-z0-9]", lambda one: one[0] if len(one[0]) > 1 else b"x", code[0]), payload
    )
    if BENCODED.search(payload):
        while version := VERSION.search(payload):
            end = version.end() + int(version[1])
            payload = payload[: version.end()] + b"x" * (end - version.end()) + payload[end:]
        return payload.replace(b"lt_donthave", b"lost_pieces")
    if is_text(payload):
        return RUN.sub(lambda run: _from(run[0], first_unknown(run[0])), payload)
    return RUN.sub(lambda run: _words(run[0]), payload)


def _from(run: bytes, at: int | None) -> bytes:
    return run if at is None else run[:at] + LETTERS.sub(b"x", run[at:])


def _words(run: bytes) -> bytes:
    odd = [word for word in WORDLIKE.findall(run) if word not in WORDS and b"xxx" not in word]
    if odd and len(run) >= LONG:
        return LETTERS.sub(b"x", run)
    for word in odd:
        run = run.replace(word, b"x" * len(word))
    return run


def _sum(data: bytes) -> int:
    words = struct.unpack(f">{(len(data) + 1) // 2}H", data + bytes(len(data) % 2))
    total = sum(words)
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def rewritten(frame: bytes) -> bytes:
    """A frame of Ethernet with its payload blanked; one that is not TCP or UDP over IP as it was."""
    packet = frame[14:]
    if frame[12:14] == b"\x08\x00":
        head, protocol, end = (packet[0] & 15) * 4, packet[9], int.from_bytes(packet[2:4])
        ends = packet[12:20]
    elif frame[12:14] == b"\x86\xdd":
        head, protocol, end = 40, packet[6], 40 + int.from_bytes(packet[4:6])
        ends = packet[8:40]
    else:
        return frame
    if protocol not in CHECKSUM_AT or (len(ends) == 8 and int.from_bytes(packet[6:8]) & 0x1FFF):
        return frame
    at = head + (8 if protocol == UDP else (packet[head + 12] >> 4) * 4)
    payload = packet[at:end]
    new = blanked(payload)
    if new == payload:
        return frame
    segment = bytearray(packet[head:at] + new)
    place = CHECKSUM_AT[protocol]
    segment[place : place + 2] = bytes(2)
    pseudo = ends + struct.pack(">IHBB", len(segment), 0, 0, protocol)
    segment[place : place + 2] = (_sum(pseudo + bytes(segment)) or 0xFFFF).to_bytes(2)
    return frame[:14] + packet[:head] + bytes(segment) + packet[end:]


def main(files: list[str]) -> None:
    """Rewrite captures in place, with the same times."""
    for name in map(Path, files):
        content = bytearray(name.read_bytes())
        order = "<" if content[:4] in (b"\xd4\xc3\xb2\xa1", b"\x4d\x3c\xb2\xa1") else ">"
        at = dpkt.pcap.FileHdr.__hdr_len__
        while at < len(content):
            (kept,) = struct.unpack_from(f"{order}I", content, at + 8)
            content[at + 16 : at + 16 + kept] = rewritten(bytes(content[at + 16 : at + 16 + kept]))
            at += 16 + kept
        name.write_bytes(content)


if __name__ == "__main__":
    main(sys.argv[1:])
