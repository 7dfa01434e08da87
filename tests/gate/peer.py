"""Peers for test_live_recognition: a TLS server and client, and media that is sent there and back. Prints JSON."""

import json
import os
import random
import socket
import ssl
import struct
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

SEGMENT_LIMIT = 40_000  # bytes that the receiver of the download lets be under way: less than the queue holds
# Offsets in struct tcp_info, linux/tcp.h: what was sent again, and what of it the far side then had twice (RFC 2883).
RETRANSMITTED, HAD_TWICE = 100, 216


def serve_tls(address: str, port: int) -> None:
    folder = Path(tempfile.mkdtemp())
    cert, key = folder / "cert.pem", folder / "key.pem"
    subject = ["-subj", "/CN=www.pages.example", "-days", "2"]
    make = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", str(key), "-out", str(cert)]
    subprocess.run([*make, *subject], check=True, capture_output=True)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    listener = socket.create_server((address, port))
    print("ready", flush=True)

    def answer(peer: socket.socket) -> None:
        with context.wrap_socket(peer, server_side=True) as inside:
            wanted = int(inside.recv(100))
            inside.sendall(bytes(wanted))
            inside.recv(1)
            told = inside.getsockopt(socket.IPPROTO_TCP, socket.TCP_INFO, 240)
            again, twice = (struct.unpack_from("I", told, index)[0] for index in (RETRANSMITTED, HAD_TWICE))
            inside.sendall(str(again - twice).encode().ljust(20))

    while True:
        threading.Thread(target=answer, args=(listener.accept()[0],), daemon=True).start()


def answer_names(address: str, given: str) -> None:
    """Answer every question of DNS by this address."""
    sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sink.bind((address, 53))
    print("ready", flush=True)
    while True:
        asked, sender = sink.recvfrom(2048)
        question = asked[12 : asked.index(b"\0", 12) + 5]
        answer = b"\xc0\x0c\0\1\0\1" + (300).to_bytes(4) + b"\0\4" + socket.inet_aton(given)
        sink.sendto(asked[:2] + b"\x81\x80\0\1\0\1\0\0\0\0" + question + answer, sender)


def ask_name(local: str, address: str, name: str) -> None:
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    line.bind((local, 0))
    line.settimeout(3)
    labels = b"".join(bytes([len(label)]) + label.encode() for label in name.split("."))
    line.sendto(b"\x12\x34\1\0\0\1\0\0\0\0\0\0" + labels + b"\0\0\1\0\1", (address, 53))
    print(json.dumps({"address": socket.inet_ntoa(line.recv(2048)[-4:])}))


def fetch_tls(local: str, address: str, port: int, name: str, wanted: int) -> None:
    line = socket.socket()
    line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, SEGMENT_LIMIT)
    line.bind((local, 0))
    line.connect((address, port))
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    with context.wrap_socket(line, server_hostname=name or None) as inside:
        inside.sendall(str(wanted).encode())
        got, stamps = 0, {}
        while got < wanted:
            got += len(inside.recv(65_536))
            for mark in (wanted // 8, wanted // 2, wanted * 11 // 16, wanted):
                if got >= mark:
                    stamps.setdefault(mark, (got, time.monotonic()))
        inside.sendall(b"?")
        lost = int(inside.recv(20))

    def rate(first: int, last: int) -> float:
        (low, begun), (high, ended) = stamps[first], stamps[last]
        return (high - low) * 8 / (ended - begun)

    early, late = rate(wanted // 8, wanted // 2), rate(wanted * 11 // 16, wanted)
    print(json.dumps({"before": early, "after": late, "lost": lost}))


def echo_media(address: str, port: int) -> None:
    sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    sink.bind((address, port))
    print("ready", flush=True)
    while True:
        data, sender = sink.recvfrom(2048)
        sink.sendto(data, sender)


def send_media(local: str, address: str, port: int, seconds: float) -> None:
    line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    line.bind((local, 0))
    line.settimeout(1)
    choose = random.Random(1)
    number, source, sent, delays = choose.randrange(30_000), choose.randrange(1 << 32), {}, {}

    def listen() -> None:
        try:
            while True:
                data = line.recv(2048)
                of = struct.unpack_from(">H", data, 2)[0]
                delays[of] = time.monotonic() - sent[of]
        except TimeoutError:
            return

    ear = threading.Thread(target=listen)
    ear.start()
    begun = time.monotonic()
    for count in range(int(seconds * 50)):
        time.sleep(max(0, begun + count * 0.02 - time.monotonic()))
        sent[number] = time.monotonic()
        line.sendto(struct.pack(">BBHII", 0x80, 8, number, count * 160, source) + os.urandom(160), (address, port))
        number += 1
    ear.join()
    late = sorted(delays.values())
    there_and_back = late[int(len(late) * 0.99)] * 1000 - 20  # ms beyond the line's own delay
    print(json.dumps({"lost": len(sent) - len(delays), "p99": there_and_back}))


if __name__ == "__main__":
    kind, *words = sys.argv[1:]
    if kind == "serve-tls":
        serve_tls(words[0], int(words[1]))
    elif kind == "fetch-tls":
        fetch_tls(words[0], words[1], int(words[2]), words[3], int(words[4]))
    elif kind == "answer-names":
        answer_names(*words)
    elif kind == "ask-name":
        ask_name(*words)
    elif kind == "echo-media":
        echo_media(words[0], int(words[1]))
    else:
        send_media(words[0], words[1], int(words[2]), float(words[3]))
