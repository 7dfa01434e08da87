"""Makes the captures that recognition is tested on: real programs talk over a virtual link, and it is recorded.

    sudo python -m tools.make_captures

Needs the packages that stand below `REAL`, which the tests themselves do not. Two namespaces are made and taken away
again. Each scenario has a client with one of our addresses and a server on the far side. What no library speaks is sent
by hand here, and `index.yaml` says so.
"""

import asyncio
import contextlib
import ctypes
import os
import random
import select
import socket
import ssl
import struct
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import dpkt
import yaml

FOLDER = Path(__file__).parent.parent / "tests" / "recognition" / "captures"
REAL = ("aioquic", "aiortc", "aiosmtpd", "dnspython", "libtorrent", "paramiko")
LOCAL, FAR, SECOND_FAR = "10.61.0.41", "203.0.113.9", "198.51.100.20"
LOCAL6, FAR6 = "fd61:0:0:1::41", "2001:db8::9"
CLONE_NEWNET = 0x40000000  # linux/sched.h
KEPT = 40  # packets of each conversation
WORK = Path(os.environ.get("CAPTURE_WORK", tempfile.gettempdir())) / "sluice-captures"


def _family(address: str) -> socket.AddressFamily:
    return socket.AF_INET6 if ":" in address else socket.AF_INET


def certificate() -> tuple[str, str]:
    """A certificate that signs itself, and its key."""
    files = (str(WORK / "cert.pem"), str(WORK / "key.pem"))
    if not Path(files[0]).exists():
        subject = ["-subj", "/CN=meet.example", "-days", "2"]
        command = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", files[1], "-out", files[0]]
        subprocess.run([*command, *subject], check=True, capture_output=True)
    return files


def accept(port: int, answer: Callable[[socket.socket], None], address: str = FAR) -> None:
    listener = socket.create_server((address, port), family=_family(address))
    with contextlib.suppress(OSError, EOFError):
        answer(listener.accept()[0])
    time.sleep(0.5)


def connect(port: int, address: str = FAR, local: str = LOCAL) -> socket.socket:
    return socket.create_connection((address, port), 5, (local, 0))


def speak(port: int, lines: list[bytes], answers: list[bytes], server_first: bool = False) -> tuple[Callable, Callable]:
    """A conversation over TCP whose lines are written here."""

    def server() -> None:
        def answer(peer: socket.socket) -> None:
            if server_first:
                peer.sendall(answers[0])
            for line in answers[server_first:]:
                peer.recv(65536)
                peer.sendall(line)
            peer.recv(65536)

        accept(port, answer)

    def client() -> None:
        with connect(port) as peer:
            peer.settimeout(2)
            if server_first:
                peer.recv(65536)
            for line in lines:
                peer.sendall(line)
                with contextlib.suppress(OSError):
                    peer.recv(65536)

    return server, client


def exchange(
    port: int, up: list[bytes], down: list[bytes], gap: float = 0.02, local_port: int = 0
) -> tuple[Callable, Callable]:
    """Datagrams there and back, of which the bytes are written here."""

    def server() -> None:
        sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        sink.bind((FAR, port))
        sink.settimeout(3)
        with contextlib.suppress(OSError):
            for answer in down:
                _, sender = sink.recvfrom(4096)
                sink.sendto(answer, sender)
            while True:
                sink.recvfrom(4096)

    def client() -> None:
        line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        line.bind((LOCAL, local_port))
        for payload in up:
            line.sendto(payload, (FAR, port))
            time.sleep(gap)

    return server, client


def tls(
    port: int, name: str | None, highest: ssl.TLSVersion, alpn: list[str] | None = None, six: bool = False
) -> tuple[Callable, Callable]:
    address, local = (FAR6, LOCAL6) if six else (FAR, LOCAL)

    def server() -> None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(*certificate())

        def answer(peer: socket.socket) -> None:
            with context.wrap_socket(peer, server_side=True) as inside:
                inside.recv(100)
                inside.sendall(bytes(20_000))

        accept(port, answer, address)

    def client() -> None:
        context = ssl._create_unverified_context()
        context.maximum_version = highest
        if alpn:
            context.set_alpn_protocols(alpn)
        with context.wrap_socket(connect(port, address, local), server_hostname=name) as inside:
            inside.sendall(b"hello")
            with contextlib.suppress(OSError):
                while inside.recv(4096):
                    pass

    return server, client


def quic(name: str, alpn: list[str], retry: bool = False, second: bool = False) -> tuple[Callable, Callable]:
    from aioquic.asyncio import connect as quic_connect
    from aioquic.asyncio import serve
    from aioquic.quic.configuration import QuicConfiguration
    from aioquic.quic.packet import QuicProtocolVersion

    def server() -> None:
        async def run() -> None:
            configuration = QuicConfiguration(is_client=False, alpn_protocols=alpn)
            configuration.load_cert_chain(*map(Path, certificate()))
            await serve(FAR, 443, configuration=configuration, retry=retry)
            await asyncio.sleep(4)

        asyncio.run(run())

    def client() -> None:
        async def run() -> None:
            configuration = QuicConfiguration(alpn_protocols=alpn, server_name=name, verify_mode=ssl.CERT_NONE)
            if second:
                configuration.original_version = QuicProtocolVersion.VERSION_2
                configuration.supported_versions = [QuicProtocolVersion.VERSION_2]
            async with quic_connect(FAR, 443, configuration=configuration, local_port=50_443) as line:
                await line.ping()
                _, writer = await line.create_stream()
                writer.write(b"hello")
                await asyncio.sleep(0.5)

        asyncio.run(run())

    return server, client


def openssl_dtls() -> tuple[Callable, Callable]:
    def server() -> None:
        cert, key = certificate()
        command = ["openssl", "s_server", "-dtls1_2", "-accept", f"{FAR}:4433", "-cert", cert, "-key", key, "-quiet"]
        with contextlib.suppress(subprocess.TimeoutExpired):
            subprocess.run(command, timeout=4, stdin=subprocess.DEVNULL, capture_output=True, check=False)

    def client() -> None:
        command = ["openssl", "s_client", "-dtls1_2", "-connect", f"{FAR}:4433", "-servername", "things.example"]
        with contextlib.suppress(subprocess.TimeoutExpired):
            subprocess.run(command, timeout=2, input=b"hello\n", capture_output=True, check=False)

    return server, client


def web(host: str) -> tuple[Callable, Callable]:
    from http.client import HTTPConnection
    from http.server import BaseHTTPRequestHandler, HTTPServer
    from socketserver import TCPServer

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.end_headers()
            self.wfile.write(bytes(5000))

    class Site(HTTPServer):
        def server_bind(self) -> None:
            TCPServer.server_bind(self)  # the usual one asks for its own name first, and waits for it

    def server() -> None:
        site = Site((FAR, 8080), Page)
        site.timeout = 3
        site.handle_request()

    def client() -> None:
        page = HTTPConnection(FAR, 8080, source_address=(LOCAL, 0))
        page.request("GET", "/hours", headers={"Host": host})
        page.getresponse().read()

    return server, client


def names_then_tls() -> tuple[Callable, Callable]:
    """A name is asked for; then its address is spoken to, without a word of the name."""
    import dns.message
    import dns.query
    import dns.rrset

    def server() -> None:
        def answer() -> None:
            sink = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            sink.bind((SECOND_FAR, 53))
            for _ in range(2):
                data, sender = sink.recvfrom(4096)
                question = dns.message.from_wire(data)
                reply = dns.message.make_response(question)
                asked = question.question[0].name
                reply.answer.append(dns.rrset.from_text(asked, 300, "IN", "CNAME", "edge.scans.example."))
                reply.answer.append(dns.rrset.from_text("edge.scans.example.", 300, "IN", "A", FAR))
                sink.sendto(reply.to_wire(), sender)

        threading.Thread(target=answer, daemon=True).start()
        tls(8443, None, ssl.TLSVersion.TLSv1_3)[0]()

    def client() -> None:
        for kind in ("A", "AAAA"):
            dns.query.udp(dns.message.make_query("pictures.scans.example", kind), SECOND_FAR, timeout=2, source=LOCAL)
        tls(8443, None, ssl.TLSVersion.TLSv1_3)[1]()

    return server, client


def names_over_tcp() -> tuple[Callable, Callable]:
    import dns.message
    import dns.query

    def server() -> None:
        def answer(peer: socket.socket) -> None:
            data = peer.recv(4096)
            reply = dns.message.make_response(dns.message.from_wire(data[2:])).to_wire()
            peer.sendall(len(reply).to_bytes(2) + reply)

        accept(53, answer, SECOND_FAR)

    def client() -> None:
        dns.query.tcp(dns.message.make_query("long.scans.example", "TXT"), SECOND_FAR, timeout=2, source=LOCAL)

    return server, client


def shell() -> tuple[Callable, Callable]:
    import paramiko

    def server() -> None:
        class Door(paramiko.ServerInterface):
            def check_auth_password(self, username: str, password: str) -> int:
                return paramiko.AUTH_SUCCESSFUL

        def answer(peer: socket.socket) -> None:
            inside = paramiko.Transport(peer)
            inside.add_server_key(paramiko.RSAKey.generate(2048))
            inside.start_server(server=Door())
            time.sleep(2)

        accept(22, answer)

    def client() -> None:
        inside = paramiko.Transport(connect(22))
        inside.connect(username="night", password="watch")
        inside.close()

    return server, client


def mail() -> tuple[Callable, Callable]:
    import smtplib

    from aiosmtpd.controller import Controller
    from aiosmtpd.handlers import Sink

    def server() -> None:
        post = Controller(Sink(), hostname=FAR, port=587)
        post.start()
        time.sleep(3)
        post.stop()

    def client() -> None:
        with smtplib.SMTP(FAR, 587, local_hostname="desk.surgery.example", source_address=(LOCAL, 0)) as post:
            post.sendmail("desk@surgery.example", ["lab@scans.example"], "Subject: results\r\n\r\nEnclosed.\r\n")

    return server, client


def meeting() -> tuple[Callable, Callable]:
    """A call as browsers make it: STUN, DTLS, and encrypted RTP, all on one pair of ports."""
    from aiortc import RTCPeerConnection, RTCSessionDescription
    from aiortc.mediastreams import AudioStreamTrack

    offer, answer = WORK / "offer", WORK / "answer"

    def hand_over(file: Path, description: RTCSessionDescription) -> None:
        part = file.with_suffix(".part")
        part.write_text(description.sdp)
        part.replace(file)

    async def take(file: Path, kind: str) -> RTCSessionDescription:
        while not file.exists():
            await asyncio.sleep(0.05)
        return RTCSessionDescription(file.read_text(), kind)

    def server() -> None:
        async def run() -> None:
            peer = RTCPeerConnection()
            peer.addTrack(AudioStreamTrack())
            await peer.setRemoteDescription(await take(offer, "offer"))
            await peer.setLocalDescription(await peer.createAnswer())
            hand_over(answer, peer.localDescription)
            await asyncio.sleep(8)
            await peer.close()

        asyncio.run(run())

    def client() -> None:
        async def run() -> None:
            peer = RTCPeerConnection()
            peer.addTrack(AudioStreamTrack())
            await peer.setLocalDescription(await peer.createOffer())
            hand_over(offer, peer.localDescription)
            await peer.setRemoteDescription(await take(answer, "answer"))
            await asyncio.sleep(7)
            await peer.close()

        asyncio.run(run())

    return server, client


def swarm(utp: bool) -> tuple[Callable, Callable]:
    import libtorrent

    data = WORK / "swarm"

    def session(address: str) -> "libtorrent.session":
        return libtorrent.session({
            "listen_interfaces": f"{address}:6999", "enable_dht": True, "enable_lsd": False, "enable_upnp": False,
            "enable_natpmp": False, "dht_bootstrap_nodes": "", "out_enc_policy": 2, "in_enc_policy": 2,
            "enable_outgoing_tcp": not utp, "enable_incoming_tcp": not utp, "enable_outgoing_utp": utp,
            "enable_incoming_utp": utp, "allow_multiple_connections_per_ip": True,
        })  # fmt: skip

    def torrent() -> "libtorrent.torrent_info":
        (data / "seed").mkdir(parents=True, exist_ok=True)
        (data / "seed" / "records").write_bytes(random.Random(7).randbytes(300_000))
        files = libtorrent.file_storage()
        libtorrent.add_files(files, str(data / "seed" / "records"))
        made = libtorrent.create_torrent(files)
        libtorrent.set_piece_hashes(made, str(data / "seed"))
        return libtorrent.torrent_info(made.generate())

    def server() -> None:
        peer = session(FAR)
        peer.add_torrent({"ti": torrent(), "save_path": str(data / "seed")})
        time.sleep(6)

    def client() -> None:
        peer = session(LOCAL)
        peer.add_dht_node((FAR, 6999))
        got = data / f"got{time.time()}"
        got.mkdir(parents=True)
        handle = peer.add_torrent({"ti": torrent(), "save_path": str(got)})
        handle.connect_peer((FAR, 6999))
        time.sleep(4)

    return server, client


def call() -> tuple[Callable, Callable]:
    """SIP that announces RTP, and the RTP, both ways; sent by hand."""
    description = (
        "v=0\r\no=- 1 1 IN IP4 {0}\r\ns=-\r\nc=IN IP4 {0}\r\nt=0 0\r\nm=audio {1} RTP/AVP 8\r\na=rtpmap:8 PCMA/8000\r\n"
    )

    def message(first: str, body: str) -> bytes:
        head = f"{first}\r\nVia: SIP/2.0/UDP {LOCAL}:5060;branch=z9hG4bK7\r\nFrom: <sip:desk@surgery.example>;tag=1\r\n"
        head += "To: <sip:lab@scans.example>\r\nCall-ID: 7@surgery.example\r\nCSeq: 1 INVITE\r\n"
        return f"{head}Content-Type: application/sdp\r\nContent-Length: {len(body)}\r\n\r\n{body}".encode()

    def media(sink: socket.socket, far: tuple[str, int], seed: int) -> None:
        choose = random.Random(seed)
        number, stamp, source = choose.randrange(65536), choose.randrange(1 << 32), choose.randrange(1 << 32)
        for _ in range(40):
            header = struct.pack(">BBHII", 0x80, 8, number & 0xFFFF, stamp & 0xFFFFFFFF, source)
            sink.sendto(header + choose.randbytes(160), far)
            number, stamp = number + 1, stamp + 160
            time.sleep(0.02)

    def side(address: str, far: str, port: int, far_port: int, calls: bool) -> None:
        signals = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        signals.bind((address, 5060))
        sound = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        sound.bind((address, port))
        body = description.format(address, port)
        if calls:
            signals.sendto(message("INVITE sip:lab@scans.example SIP/2.0", body), (far, 5060))
            signals.recvfrom(4096)
        else:
            signals.recvfrom(4096)
            signals.sendto(message("SIP/2.0 200 OK", body), (far, 5060))
        media(sound, (far, far_port), port)

    return (
        lambda: side(FAR, LOCAL, 31_337, 41_234, calls=False),
        lambda: side(LOCAL, FAR, 41_234, 31_337, calls=True),
    )


def rtp(port: int, kinds: tuple[int, ...], step: int) -> tuple[Callable, Callable]:
    """RTP alone, of several sources, with reports between; sent by hand."""
    choose = random.Random(port)
    sources = [(kind, choose.randrange(1 << 32), choose.randrange(1 << 32)) for kind in kinds]
    sent = []
    for number in range(15):
        for kind, source, stamp in sources:
            at = (stamp + number * step) & 0xFFFFFFFF
            sent.append(
                struct.pack(">BBHII", 0x80, kind, (65_530 + number) & 0xFFFF, at, source) + choose.randbytes(90)
            )
        if number % 5 == 0:
            sent.append(struct.pack(">BBHI", 0x81, 201, 7, sources[0][1]) + choose.randbytes(24))
    return exchange(port, sent, [])


def wireguard() -> tuple[Callable, Callable]:
    choose = random.Random(51)
    index, other = choose.randbytes(4), choose.randbytes(4)
    initiation = b"\x01\0\0\0" + index + choose.randbytes(140)
    response = b"\x02\0\0\0" + other + index + choose.randbytes(80)
    data = [b"\x04\0\0\0" + other + number.to_bytes(8, "little") + choose.randbytes(96) for number in range(8)]
    return exchange(41_194, [initiation, *data], [response, b"\x04\0\0\0" + index + bytes(8) + choose.randbytes(96)])


def clock() -> tuple[Callable, Callable]:
    asked = bytes.fromhex("ecc1a2b3c4d5e6f7")
    question = bytes([0x23]) + bytes(39) + asked
    return exchange(123, [question], [bytes([0x24, 2]) + bytes(22) + asked + bytes(16)])


def keys(port: int) -> tuple[Callable, Callable]:
    marker = bytes(4) if port == 4500 else b""
    body = random.Random(9).randbytes(200)
    head = b"surgery1" + bytes(8) + bytes([33, 0x20, 34, 8]) + bytes(4) + (228).to_bytes(4)
    return exchange(
        port,
        [marker + head + body],
        [marker + b"surgery1" + b"farside2" + head[16:20] + bytes(4) + (228).to_bytes(4) + body],
    )


def noise(
    seed: int, first: bytes = b"", size: tuple[int, int] = (40, 120), count: int = 20
) -> tuple[list[bytes], list[bytes]]:
    choose = random.Random(seed)
    up, down = ([first + choose.randbytes(choose.randrange(*size)) for _ in range(count)] for _ in range(2))
    return up, down


V12, V13 = ssl.TLSVersion.TLSv1_2, ssl.TLSVersion.TLSv1_3
MANY = [f"proto-{number:03}-of-many-that-nobody-has" for number in range(60)]
Scenario = tuple[Callable[[], tuple[Callable, Callable]], str, dict[str, list[str]]]
# Who makes the packets; and of each conversation, by protocol and remote port, what it speaks and the remote's name. Of
# a meeting's conversations one carries the media, and others only try a way.
SCENARIOS: dict[str, Scenario] = {
    "tls13": (lambda: tls(443, "meet.example", V13, ["h2", "http/1.1"]), "OpenSSL", {"tcp/443": ["tls", "meet.example"]}),
    "tls12": (lambda: tls(443, "Films.Example", V12), "OpenSSL", {"tcp/443": ["tls", "films.example"]}),
    "tls-nameless": (lambda: tls(8443, None, V13), "OpenSSL", {"tcp/8443": ["tls", ""]}),
    "tls-long": (lambda: tls(443, "meet.example", V13, MANY), "OpenSSL", {"tcp/443": ["tls", "meet.example"]}),
    "tls-ipv6": (lambda: tls(993, "mail.example", V13, six=True), "OpenSSL", {"tcp/993": ["tls", "mail.example"]}),
    "quic": (lambda: quic("meet.example", ["h3"]), "aioquic", {"udp/443": ["quic", "meet.example"]}),
    "quic-long": (lambda: quic("films.example", MANY[:45]), "aioquic", {"udp/443": ["quic", "films.example"]}),
    "quic-retry": (lambda: quic("meet.example", ["h3"], retry=True), "aioquic", {"udp/443": ["quic", "meet.example"]}),
    "quic-2": (lambda: quic("meet.example", ["h3"], second=True), "aioquic", {"udp/443": ["quic", "meet.example"]}),
    "dtls": (openssl_dtls, "OpenSSL", {"udp/4433": ["dtls", "things.example"]}),
    "http": (lambda: web("hours.surgery.example"), "http.client", {"tcp/8080": ["http", "hours.surgery.example"]}),
    "http2-preface": (
        lambda: speak(80, [b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n" + bytes(9)], [bytes(9)]), "by hand", {"tcp/80": ["http", ""]},
    ),
    "names-then-tls": (
        names_then_tls, "dnspython, OpenSSL",
        {"udp/53": ["dns", ""], "tcp/8443": ["tls", "pictures.scans.example"]},
    ),
    "names-over-tcp": (names_over_tcp, "dnspython", {"tcp/53": ["dns", ""]}),
    "ssh": (shell, "paramiko", {"tcp/22": ["ssh", ""]}),
    "smtp": (mail, "smtplib, aiosmtpd", {"tcp/587": ["smtp", ""]}),
    "imap": (
        lambda: speak(143, [b"a1 CAPABILITY\r\n"], [b"* OK [CAPABILITY IMAP4rev1] ready\r\n", b"a1 OK\r\n"], True),
        "by hand", {"tcp/143": ["imap", ""]},
    ),
    "pop3": (lambda: speak(110, [b"CAPA\r\n"], [b"+OK ready\r\n", b"+OK\r\n.\r\n"], True), "by hand", {"tcp/110": ["pop3", ""]}),
    "rfb": (
        lambda: speak(5900, [b"RFB 003.008\n"], [b"RFB 003.008\n", b"\x01\x01"], True), "by hand", {"tcp/5900": ["rfb", ""]},
    ),
    "rtsp": (
        lambda: speak(554, [b"OPTIONS rtsp://yard.example/east RTSP/1.0\r\nCSeq: 1\r\n\r\n"], [b"RTSP/1.0 200 OK\r\nCSeq: 1\r\n\r\n"]),
        "by hand", {"tcp/554": ["rtsp", ""]},
    ),
    "sip-tcp": (
        lambda: speak(5060, [b"REGISTER sip:scans.example SIP/2.0\r\nCSeq: 1 REGISTER\r\n\r\n"], [b"SIP/2.0 200 OK\r\n\r\n"]),
        "by hand", {"tcp/5060": ["sip", ""]},
    ),
    "call": (call, "by hand", {"udp/5060": ["sip", ""], "udp/31337": ["rtp", ""]}),
    "meeting": (meeting, "aiortc", {"udp/any": ["rtp|stun", ""]}),
    "rtp-one": (lambda: rtp(23_456, (0,), 160), "by hand", {"udp/23456": ["rtp", ""]}),
    "rtp-bundle": (lambda: rtp(443, (111, 96), 960), "by hand", {"udp/443": ["rtp", ""]}),
    "swarm-tcp": (lambda: swarm(utp=False), "libtorrent", {"tcp/6999": ["bittorrent", ""], "udp/6999": ["dht", ""]}),
    "swarm-utp": (lambda: swarm(utp=True), "libtorrent", {"udp/6999": ["utp|dht", ""]}),
    "wireguard": (wireguard, "by hand", {"udp/41194": ["wireguard", ""]}),
    "ntp": (clock, "by hand", {"udp/123": ["ntp", ""]}),
    "ike": (lambda: keys(500), "by hand", {"udp/500": ["ike", ""]}),
    "ipsec": (lambda: keys(4500), "by hand", {"udp/4500": ["ipsec", ""]}),
    "game": (lambda: exchange(27_100, *noise(1)), "by hand", {"udp/27100": ["", ""]}),
    "game-on-443": (lambda: exchange(443, *noise(2)), "by hand", {"udp/443": ["", ""]}),
    "counted": (
        lambda: exchange(9000, [bytes([0x80, 0]) + n.to_bytes(2) + bytes(60) for n in range(20)], []), "by hand",
        {"udp/9000": ["", ""]},
    ),
    "like-quic": (lambda: exchange(443, *noise(3, b"\xc0\0\0\0\1\x08")), "by hand", {"udp/443": ["", ""]}),
    "like-stun": (lambda: exchange(3478, *noise(4, b"\0\1\0\x08")), "by hand", {"udp/3478": ["", ""]}),
    "like-dns": (lambda: exchange(53, *noise(5)), "by hand", {"udp/53": ["", ""]}),
    "random-tcp": (
        lambda: speak(443, [random.Random(6).randbytes(700)], [random.Random(7).randbytes(900)]), "by hand", {"tcp/443": ["", ""]},
    ),
    "log": (lambda: exchange(514, [b"<34>1 2026-11-23T08:00:00Z gate - - - opened"] * 6, []), "by hand", {"udp/514": ["", ""]}),
    "things": (
        lambda: speak(1883, [b"\x10\x10\0\4MQTT\4\2\0\x3c\0\4yard"], [b"\x20\2\0\0"]), "by hand", {"tcp/1883": ["", ""]},
    ),
    "terminal": (
        lambda: speak(23, [b"\xff\xfb\x18", b"night\r\n"], [b"\xff\xfd\x18", b"login: "], True), "by hand", {"tcp/23": ["", ""]},
    ),
}  # fmt: skip


def ip(*words: str, check: bool = True) -> None:
    subprocess.run(["ip", *words], check=check, capture_output=True)


def raise_link() -> None:
    lower_link()
    for name in ("cap-near", "cap-far"):
        ip("netns", "add", name)
        ip("-n", name, "link", "set", "lo", "up")
    ip("link", "add", "near0", "netns", "cap-near", "type", "veth", "peer", "name", "far0", "netns", "cap-far")
    for name, link, addresses in (
        ("cap-near", "near0", (f"{LOCAL}/32", f"{LOCAL6}/128")),
        ("cap-far", "far0", (f"{FAR}/32", f"{SECOND_FAR}/32", f"{FAR6}/128")),
    ):
        for address in addresses:
            ip("-n", name, "addr", "add", address, "dev", link, *(["nodad"] if ":" in address else []))
        ip("-n", name, "link", "set", link, "up")
        ip("-n", name, "route", "add", "default", "dev", link)
        ip("-n", name, "-6", "route", "add", "default", "dev", link)
        # Packets as they are on a line, not several as one piece.
        ip("-n", name, "link", "set", link, "gso_max_segs", "1")


def lower_link() -> None:
    for name in ("cap-near", "cap-far"):
        ip("netns", "del", name, check=False)


def record(stop: threading.Event, frames: list[tuple[float, bytes]]) -> None:
    """Record the near end of the link, from a thread that goes into its namespace."""
    with Path("/run/netns/cap-near").open() as index:
        if ctypes.CDLL(None, use_errno=True).setns(index.fileno(), CLONE_NEWNET):
            raise OSError(ctypes.get_errno(), "setns")
    with socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3)) as tap:
        tap.bind(("near0", 3))
        while not stop.is_set():
            if select.select([tap], [], [], 0.1)[0]:
                frames.append((time.time(), tap.recv(65_536)))


def shortened(frames: list[tuple[float, bytes]]) -> list[tuple[float, bytes]]:
    """The first packets of each conversation; nothing but IP."""
    seen: Counter[tuple[bytes, ...]] = Counter()
    kept = []
    for moment, frame in frames:
        four = frame[12:14] == b"\x08\x00"
        if not four and frame[12:14] != b"\x86\xdd":
            continue
        packet = frame[14:]
        if (packet[9] if four else packet[6]) not in (6, 17):
            continue
        ends, ports = (packet[12:20], packet[20:24]) if four else (packet[8:40], packet[40:44])
        half = len(ends) // 2
        pair = tuple(sorted((ends[:half] + ports[:2], ends[half:] + ports[2:])))
        seen[pair] += 1
        if seen[pair] <= KEPT:
            kept.append((moment, frame))
    return kept


def run(name: str) -> None:
    for left in ("offer", "answer"):
        (WORK / left).unlink(missing_ok=True)
    stop, frames = threading.Event(), []
    recorder = threading.Thread(target=record, args=(stop, frames))
    recorder.start()
    time.sleep(0.2)
    command = [sys.executable, "-m", "tools.make_captures"]
    server = subprocess.Popen(["ip", "netns", "exec", "cap-far", *command, "server", name])
    time.sleep(1.5)
    subprocess.run(["ip", "netns", "exec", "cap-near", *command, "client", name], timeout=30, check=False)
    with contextlib.suppress(subprocess.TimeoutExpired):
        server.wait(10)
    server.terminate()
    stop.set()
    recorder.join()
    with (FOLDER / f"{name}.pcap").open("wb") as file:
        writer = dpkt.pcap.Writer(file)
        for moment, frame in shortened(frames):
            writer.writepkt(frame, moment)
    print(f"{name}: {len(frames)} frames", flush=True)


def main() -> None:
    WORK.mkdir(parents=True, exist_ok=True)
    if len(sys.argv) == 3 and sys.argv[1] in ("server", "client"):
        SCENARIOS[sys.argv[2]][0]()[sys.argv[1] == "client"]()
        return
    FOLDER.mkdir(exist_ok=True)
    certificate()
    raise_link()
    try:
        for name in sys.argv[1:] or SCENARIOS:
            run(name)
    finally:
        lower_link()
    index = {name: {"made by": maker, "expected": expected} for name, (_, maker, expected) in SCENARIOS.items()}
    kept = yaml.safe_load((FOLDER / "index.yaml").read_text())  # what was recorded elsewhere
    (FOLDER / "index.yaml").write_text(yaml.safe_dump({**kept, **index}, sort_keys=False))


if __name__ == "__main__":
    main()
