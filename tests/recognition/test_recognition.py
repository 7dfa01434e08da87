"""What recognition says of published vectors, of real programs' packets, and of anything at all."""

from itertools import chain

import dpkt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.recognition.scoring import FOLDER, conversations, scores
from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of, parse
from wily_sluice.engine.classify.service import PROTOCOLS_SEEN, Known
from wily_sluice.engine.conversations.conversation import Conversation, ConversationTable
from wily_sluice.plan.build_rules import build_service
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.recognition.opening import DATAGRAMS, STREAM_BYTES, TAIL, Datagram, Opening, Stream, Verdict
from wily_sluice.recognition.protocols import sip
from wily_sluice.recognition.protocols.quic import look as look_quic
from wily_sluice.recognition.protocols.tls import host_name, parse_hello
from wily_sluice.recognition.recognition import MOST_OPEN, RECOGNISERS, LearntNames, Recognition
from wily_sluice.units import SECOND

HOST, FAR, RESOLVER = bytes([10, 61, 0, 41]), bytes([203, 0, 113, 9]), bytes([198, 51, 100, 20])
CLIENT_INITIAL = bytes.fromhex(  # RFC 9001, appendix A.2
    "c000000001088394c8f03e5157080000449e7b9aec34d1b1c98dd7689fb8ec11d242b123dc9bd8bab936b47d92ec356c0bab7df5976d27cd"
    "449f63300099f3991c260ec4c60d17b31f8429157bb35a1282a643a8d2262cad67500cadb8e7378c8eb7539ec4d4905fed1bee1fc8aafba1"
    "7c750e2c7ace01e6005f80fcb7df621230c83711b39343fa028cea7f7fb5ff89eac2308249a02252155e2347b63d58c5457afd84d05dfffd"
    "b20392844ae812154682e9cf012f9021a6f0be17ddd0c2084dce25ff9b06cde535d0f920a2db1bf362c23e596d11a4f5a6cf3948838a3aec"
    "4e15daf8500a6ef69ec4e3feb6b1d98e610ac8b7ec3faf6ad760b7bad1db4ba3485e8a94dc250ae3fdb41ed15fb6a8e5eba0fc3dd60bc8e3"
    "0c5c4287e53805db059ae0648db2f64264ed5e39be2e20d82df566da8dd5998ccabdae053060ae6c7b4378e846d29f37ed7b4ea9ec5d82e7"
    "961b7f25a9323851f681d582363aa5f89937f5a67258bf63ad6f1a0b1d96dbd4faddfcefc5266ba6611722395c906556be52afe3f565636a"
    "d1b17d508b73d8743eeb524be22b3dcbc2c7468d54119c7468449a13d8e3b95811a198f3491de3e7fe942b330407abf82a4ed7c1b311663a"
    "c69890f4157015853d91e923037c227a33cdd5ec281ca3f79c44546b9d90ca00f064c99e3dd97911d39fe9c5d0b23a229a234cb36186c481"
    "9e8b9c5927726632291d6a418211cc2962e20fe47feb3edf330f2c603a9d48c0fcb5699dbfe5896425c5bac4aee82e57a85aaf4e2513e4f0"
    "5796b07ba2ee47d80506f8d2c25e50fd14de71e6c418559302f939b0e1abd576f279c4b2e0feb85c1f28ff18f58891ffef132eef2fa09346"
    "aee33c28eb130ff28f5b766953334113211996d20011a198e3fc433f9f2541010ae17c1bf202580f6047472fb36857fe843b19f5984009dd"
    "c324044e847a4f4a0ab34f719595de37252d6235365e9b84392b061085349d73203a4a13e96f5432ec0fd4a1ee65accdd5e3904df54c1da5"
    "10b0ff20dcc0c77fcb2c0e0eb605cb0504db87632cf3d8b4dae6e705769d1de354270123cb11450efc60ac47683d7b8d0f811365565fd98c"
    "4c8eb936bcab8d069fc33bd801b03adea2e1fbc5aa463d08ca19896d2bf59a071b851e6c239052172f296bfb5e72404790a2181014f3b94a"
    "4e97d117b438130368cc39dbb2d198065ae3986547926cd2162f40a29f0c3c8745c0f50fba3852e566d44575c29d39a03f0cda721984b6f4"
    "40591f355e12d439ff150aab7613499dbd49adabc8676eef023b15b65bfc5ca06948109f23f350db82123535eb8a7433bdabcb909271a6ec"
    "bcb58b936a88cd4e8f2e6ff5800175f113253d8fa9ca8885c2f552e657dc603f252e1a8e308f76f0be79e2fb8f5d5fbbe2e30ecadd220723"
    "c8c0aea8078cdfcb3868263ff8f0940054da48781893a7e49ad5aff4af300cd804a6b6279ab3ff3afb64491c85194aab760d58a606654f9f"
    "4400e8b38591356fbf6425aca26dc85244259ff2b19c41b9f96f3ca9ec1dde434da7d2d392b905ddf3d1f9af93d1af5950bd493f5aa731b4"
    "056df31bd267b6b90a079831aaf579be0a39013137aac6d404f518cfd46840647e78bfe706ca4cf5e9c5453e9f7cfd2b8b4c8d169a44e55c"
    "88d4a9a7f9474241e221af44860018ab0856972e194cd934"
)


def opening(*payloads: bytes, protocol: int = UDP, port: int = 443) -> Opening:
    made = Opening(key_of(Parties(protocol, HOST, FAR, 5004, port)), 0)
    for index, payload in enumerate(payloads):
        if protocol == TCP:
            (made.up if index % 2 == 0 else made.down).add(0, payload, False)
        else:
            made.datagrams.append(Datagram(index % 2 == 0, payload, len(payload), index))
    return made


def packet(payload: bytes, up: bool = True, remote: bytes = FAR, port: int = 443) -> bytes:
    ends = (HOST, remote) if up else (remote, HOST)
    ports = (5004, port) if up else (port, 5004)
    udp = dpkt.udp.UDP(sport=ports[0], dport=ports[1], ulen=8 + len(payload), data=payload)
    return bytes(dpkt.ip.IP(src=ends[0], dst=ends[1], p=UDP, len=28 + len(payload), data=udp))


def test_the_client_initial_of_rfc_9001_gives_its_server_name() -> None:
    verdict = look_quic(opening(CLIENT_INITIAL))
    assert isinstance(verdict, Verdict)
    assert (verdict.seen, verdict.name) == ("quic", "example.com")
    broken = CLIENT_INITIAL[:-1] + bytes([CLIENT_INITIAL[-1] ^ 1])
    assert look_quic(opening(broken)) is None


def test_real_programs_are_recognised_and_nothing_is_taken_for_what_it_is_not() -> None:
    found = scores()
    assert len(found) >= 200
    assert [score for score in found if score.wrong_with_confidence] == []
    assert sum(score.right for score in found) >= 0.97 * len(found)


def test_media_of_a_meeting_are_seen_behind_all_that_two_browsers_say_first() -> None:
    media = {score.capture for score in scores() if score.seen == "rtp"}
    assert media >= {"meeting", "browsers-audio", "browsers-video", "browsers-mixed"}


def test_a_tunnel_on_the_web_s_port_is_no_web_page_and_a_terminal_over_udp_is_no_play() -> None:
    services = {name: build_service(service) for name, service in shipped_services().items()}

    def signs(capture: str, port: int, shape: str = "") -> list[str]:
        (one,) = (c for c in conversations(FOLDER / f"{capture}.pcap") if c.parties.remote_port == port)
        known = one.known or Known()
        return [name for name, service in services.items() if service.sign(one.parties, known, shape)]

    assert signs("tunnels", 443) == []
    assert signs("browser-quic", 443) == ["web-pages"]
    assert signs("terminal-udp", 60001, "interactive") == ["secure-shell"]


def test_a_stream_is_put_in_order_whatever_comes_late_twice_or_across_the_end_of_the_numbers() -> None:
    stream = Stream()
    start = (1 << 32) - 5
    stream.add(start, b"", True)  # a SYN: the first byte has the next number
    for offset, piece in ((10, b"klmno"), (0, b"abcde"), (0, b"abcde"), (3, b"defghij"), (15, b"p")):
        stream.add((start + 1 + offset) & 0xFFFFFFFF, piece, False)
    assert stream.data == b"abcdefghijklmnop"


def test_an_answer_of_dns_names_an_address_for_as_long_as_it_says() -> None:
    names = LearntNames()
    names.learn(FAR, "pictures.example", until=300 * SECOND, host=HOST)
    names.learn(FAR, "films.example", until=900 * SECOND, host=RESOLVER)
    assert names.names(FAR, HOST, 299 * SECOND) == ("pictures.example",)
    assert names.names(FAR, HOST, 301 * SECOND) == ("films.example",)  # not asked for by this host, but all there is
    assert names.names(FAR, HOST, 901 * SECOND) == ()


def test_sip_says_where_media_will_be_and_it_is_known_from_its_first_packet() -> None:
    description = b"v=0\r\nc=IN IP4 203.0.113.9\r\nm=audio 31000 RTP/AVP 8\r\nm=video 31002 RTP/AVP 96\r\n"
    invite = b"INVITE sip:lab@scans.example SIP/2.0\r\nCSeq: 1\r\n\r\n" + description
    assert sip.media(invite) == [(FAR, 31000, "audio"), (FAR, 31002, "video")]
    recognition, table = Recognition(), ConversationTable()

    def look(raw: bytes) -> Conversation:
        parsed = parse(raw, True)
        assert parsed is not None
        conversation = table.find(parsed.key, 0, 0)
        recognition.look(conversation, parsed, raw, True, 0)
        return conversation

    signalling = look(packet(invite, port=5060))
    media = look(packet(bytes(60), port=31002))
    assert signalling.known is not None
    assert signalling.known.seen == "sip"
    assert media.known is not None
    assert (media.known.seen, media.known.evidence) == ("rtp", ("video was announced on this port",))


def test_memory_is_bounded_however_many_conversations_begin_and_never_say_what_they_are() -> None:
    recognition = Recognition()
    opened = []
    for number in range(MOST_OPEN + 50):
        raw = packet(b"\0\1\0\x08" + bytes(30), port=1 + number)
        parsed = parse(raw, True)
        assert parsed is not None
        conversation = Conversation(parsed.key)
        recognition.look(conversation, parsed, raw, True, 0)
        opened.append(conversation)
    assert sum(conversation.unknown for conversation in opened) <= MOST_OPEN
    assert not any(conversation.unknown for conversation in opened[:50])
    many = Opening(opened[-1].key, 0)
    for number in range(1000):
        raw = packet(bytes(1400))
        parsed = parse(raw, True)
        assert parsed is not None
        many.add(parsed, raw, True, number)
        if many.over:
            break
    assert many.over
    assert sum(len(datagram.payload) for datagram in many.datagrams) <= 14_000 + DATAGRAMS * TAIL


CAPTURED = [
    bytes(dpkt.ethernet.Ethernet(frame).data.data.data)
    for file in sorted(FOLDER.glob("*.pcap"))
    for _, frame in list(dpkt.pcap.Reader(file.open("rb")))[:12]
]
pieces = st.binary(max_size=80) | st.sampled_from([payload for payload in CAPTURED if payload])


@st.composite
def mangled(draw: st.DrawFn) -> bytes:
    """A real payload with some bytes changed, cut or doubled; or no such thing."""
    payload = bytearray(draw(pieces))
    for _ in range(draw(st.integers(0, 4))):
        if payload:
            payload[draw(st.integers(0, len(payload) - 1))] = draw(st.integers(0, 255))
    cut = draw(st.integers(0, len(payload)))
    return bytes(payload[:cut] if draw(st.booleans()) else payload)


@pytest.mark.parametrize("protocol", [TCP, UDP])
@settings(max_examples=400)
@given(payloads=st.lists(mangled(), max_size=8), port=st.sampled_from([53, 123, 443, 5060, 9]))
def test_every_recogniser_answers_to_anything(protocol: int, payloads: list[bytes], port: int) -> None:
    made = opening(*payloads, protocol=protocol, port=port)
    for recogniser in RECOGNISERS[protocol]:
        answer = recogniser(made)
        assert not isinstance(answer, Verdict) or answer.seen in PROTOCOLS_SEEN


@settings(max_examples=400)
@given(raw=st.lists(st.tuples(st.binary(max_size=120), st.booleans()), max_size=6), cut=st.integers(0, 60))
def test_whatever_a_packet_is_it_is_looked_at_without_an_error(raw: list[tuple[bytes, bool]], cut: int) -> None:
    recognition, table = Recognition(), ConversationTable()
    starts = (
        b"",
        b"\x45\0\0\x54",
        bytes.fromhex("4500005400004000401100000a3d0029cb007109"),
        b"\x60" + bytes(5) + b"\x00\x40",
    )
    for now, (data, up) in enumerate(chain(raw, [(packet(CLIENT_INITIAL)[:cut], True)])):
        whole = starts[now % len(starts)] + data
        parsed = parse(whole, up)
        if parsed is not None:
            recognition.look(table.find(parsed.key, parsed.dscp, now), parsed, whole, up, now)


def test_a_hello_that_is_cut_names_nobody() -> None:
    hello = bytes.fromhex("0303") + bytes(32) + b"\0" + b"\0\2\x13\1" + b"\1\0" + (18).to_bytes(2)
    hello += b"\0\0\0\x0e\0\x0c\0\0\x09yard.test"[:18]
    whole = parse_hello(hello)
    assert whole is not None
    assert whole.name == "yard.test"
    cut = [parse_hello(hello[:index]) for index in range(len(hello))]
    assert [one.name for one in cut if one is not None] == [""]  # where it ends before its extensions, it has none
    assert len(hello) < STREAM_BYTES


def seen(*payloads: bytes, protocol: int = UDP, port: int = 443) -> str:
    """What is seen of a conversation whose sides take turns."""
    made, last = opening(protocol=protocol, port=port), ""
    hopes = RECOGNISERS[protocol]
    for index, payload in enumerate(payloads):
        if protocol == TCP:
            stream = made.up if index % 2 == 0 else made.down
            stream.add(len(stream.data), payload, False)
        else:
            made.datagrams.append(Datagram(index % 2 == 0, payload, len(payload), index))
        left = []
        for look in hopes:
            answer = look(made)
            if isinstance(answer, Verdict):
                last = answer.seen if answer.certain else last
            elif answer is not None:
                left.append(look)
        hopes = tuple(left)
    return last


def rtp(number: int, time: int, source: bytes = b"abcd", kind: int = 96) -> bytes:
    return bytes([0x80, kind]) + number.to_bytes(2) + time.to_bytes(4) + source + bytes(900)


STUN = b"\0\x01\0\0" + bytes.fromhex("2112a442") + bytes(12)


def dtls(message: bytes, offset: int, size: int) -> bytes:
    """A record with a piece of a ClientHello (RFC 9147 §5.2)."""
    piece = message[offset : offset + size]
    body = b"\x01" + len(message).to_bytes(3) + bytes(2) + offset.to_bytes(3) + len(piece).to_bytes(3) + piece
    return b"\x16\xfe\xfd" + bytes(8) + len(body).to_bytes(2) + body


def hello(*extensions: bytes) -> bytes:
    whole = b"".join(extensions)
    return b"\xfe\xfd" + bytes(32) + b"\0\0\0\x02\x13\x01\x01\0" + len(whole).to_bytes(2) + whole


def test_a_meeting_in_a_browser_is_a_call_whatever_stands_before_its_media() -> None:
    with_srtp = hello(bytes([0, 14, 0, 5, 0, 2, 0, 7, 0]), bytes([0, 10, 1, 44]) + bytes(300))
    parts = [dtls(with_srtp, 0, 200), dtls(with_srtp, 200, 400)]
    assert seen(STUN, STUN, parts[0], STUN, parts[1]) == "dtls-srtp"
    assert seen(STUN, STUN, dtls(hello(), 0, 400)) == "dtls"  # a sensor's, say
    before = [STUN, STUN, *parts] + [b"\x16\xfe\xfd" + bytes(8) + b"\0\x05" + bytes(5)] * 6 + [STUN] * 6
    shown = [rtp(9 + n, 3000 * (n // 2)) for n in range(12)]
    assert seen(*before, *shown) == "rtp"


def test_pictures_are_rtp_however_large_they_are_and_in_whatever_order_they_are_shown() -> None:
    quiet = b"\x80\xc8" + bytes(26)  # a report of RTCP, so that all packets go one way
    assert seen(*(one for n in range(9) for one in (rtp(100 + n, 7777), quiet))) == "rtp"
    times = (9000, 18_000, 12_000, 15_000, 27_000, 21_000)
    assert seen(*(one for n, time in enumerate(times) for one in (rtp(n, time), quiet))) == "rtp"
    assert seen(*(one for n in range(9) for one in (rtp(100 + 3 * n, 7777), quiet))) != "rtp"


@pytest.mark.parametrize(
    ("payloads", "protocol", "port", "expected"),
    [
        ([b"", b"+OK ready\r\n", b"USER ada\r\n"], TCP, 110, "pop3"),
        ([b"USER ada\r\n", b"220 ready\r\n"], TCP, 21, ""),
        ([b"", b"* OK IMAP4rev2 ready\r\n"], TCP, 143, "imap"),
        ([STUN], TCP, 3478, "stun"),
        ([b"\0\x07\x01\0\0\x01" + bytes(6) + b"\7version\4bind\0\0\x10\0\x03"], UDP, 53, "dns"),
        ([b"\0\x07\x01\0\0\x01" + bytes(6) + b"\x0aMy Printer\4_ipp\4_tcp\5local\0\0\x10\0\x01"], UDP, 53, "dns"),
        ([b"GET /announce?info_hash=%aa&port=6881 HTTP/1.1\r\nHost: t.example\r\n\r\n"], TCP, 80, "bittorrent"),
        ([b"d1:ad2:id20:" + bytes(20) + b"e1:q4:ping1:t2:aa1:y1:qe",
          b"d1:rd2:id20:" + bytes(20) + b"e1:t2:aa1:y1:re",
          b"\x41\0\0\x09" + bytes(16), b"\x21\0\0\x09" + bytes(16)], UDP, 6881, "utp"),
    ],
)  # fmt: skip
def test_what_others_programs_send(payloads: list[bytes], protocol: int, port: int, expected: str) -> None:
    assert seen(*payloads, protocol=protocol, port=port) == expected


def test_dns_over_tcp_on_another_port_is_a_question_with_its_answer() -> None:
    question = b"\0\x07\x01\0\0\x01" + bytes(6) + b"\4scan\7example\0\0\x01\0\x01"
    answer = question[:2] + b"\x81" + question[3:]
    framed = [len(one).to_bytes(2) + one for one in (question, answer)]
    assert seen(*framed, protocol=TCP, port=5353) == "dns"
    assert seen(framed[0], framed[0], protocol=TCP, port=5353) == ""


def test_interleaved_ntp_is_an_answer_to_what_was_received_before() -> None:
    asked = b"\x23" + bytes(31) + b"received" + b"transmit"
    assert seen(asked, b"\x24" + bytes(23) + b"received" + bytes(16), port=123) == "ntp"
    assert seen(asked, b"\x24" + bytes(23) + b"whatever" + bytes(16), port=123) == ""


def test_rtsp_says_where_media_will_be() -> None:
    setup = b"SETUP rtsp://cam.example/1 RTSP/1.0\r\nTransport: RTP/AVP;unicast;client_port=5000-5001\r\n\r\n"
    answer = b"RTSP/1.0 200 OK\r\nTransport: RTP/AVP;unicast;client_port=5000-5001;server_port=6970-6971\r\n\r\n"
    assert sip.rtsp_media(setup) == [(True, 5000), (True, 5001)]
    assert sip.rtsp_media(answer) == [(False, 5000), (False, 5001), (True, 6970), (True, 6971)]


def test_an_address_is_no_name() -> None:
    assert host_name(b"198.51.100.7") == ""
    assert host_name(b"198-51-100-7.example.") == "198-51-100-7.example"
