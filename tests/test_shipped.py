"""What ships: no capture says which program or machine sent it, and none holds a real name."""

import re
import subprocess
from pathlib import Path

import dpkt
import pytest

from tests.recognition.wording import payload_of, strange

ROOT = Path(__file__).parent.parent
FILES = [
    ROOT / name
    for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=False).stdout.split(
        "\n"
    )
    if name and (ROOT / name).is_file()
]
# Names of RFC 2606 and RFC 6761 are nobody's; so are these, which are not hosts.
OURS = re.compile(
    rb"(?:^|\.)(?:example|test|invalid|localhost)(?:\.(?:com|net|org))?$|^(?:json-schema|www\.w3|www\.apache)\.org$"
)
DOMAIN = re.compile(
    rb"(?<![\w.@-])(?:[a-z0-9-]{2,63}\.)+(?:com|org|net|io|edu|gov|info|uk|de|fr|nl|cn|jp|me|tv|app|dev)(?![\w-])", re.I
)
# What a program calls itself; where it was taken out, it is a row of x.
BANNER = re.compile(
    rb"(?:^|[\r\n])(?:user-agent|server|x-mailer|x-powered-by):[ \t]*([^\r\n]{1,80})|(SSH-\d\.\d+-[^\r\n]{1,60})", re.I
)


@pytest.mark.skipif(not FILES, reason="not a checkout")
def test_no_capture_carries_a_real_domain_or_says_which_program_made_it() -> None:
    found = []
    for file in FILES:
        if file.suffix == ".pcap":
            content = file.read_bytes()
            found += [(file.name, name) for name in DOMAIN.findall(content) if not OURS.search(name)]
            banners = [match[1] or match[2] for match in BANNER.finditer(content)]
            found += [(file.name, banner) for banner in banners if b"xxx" not in banner]
    assert found == []


@pytest.mark.skipif(not FILES, reason="not a checkout")
def test_captures_hold_no_words_but_those_of_protocols_and_our_own() -> None:
    found = []
    for file in FILES:
        if file.suffix == ".pcap":
            for _, frame in dpkt.pcap.Reader(file.open("rb")):
                found += [(file.name, run) for run in strange(payload_of(frame))]
    assert found == []


@pytest.mark.parametrize(
    "payload",
    [
        b"GET / HTTP/1.1\r\nHost: films.example\r\nUser-Agent: pelican/7.2\r\n\r\n",
        b"220 mail.example ESMTP Heronmail ready\r\n",
        b'{"tcp":true,"release":"3.18"}',
        b"\0\0\1\6\5pelican coder - release 17\0\0\x9a\xf1\x88\x12\xd3\xee\xbc\x90\x80\x81\x82\x83\x84\x85\x86\x87",
        b"\x13BitTorrent protocol" + bytes(8) + b"\x91" * 20 + b"-HP4120-" + b"\x8f" * 12,
        b"d1:md11:ut_metadatai9ee1:v7:Heron/2e",
        b"To: ann@mail.example\r\nX-Made-By: /home/pat/bin\r\n",
        b"SSH-2.0-heronsh_9.1\r\n",
    ],
)
def test_what_a_program_says_of_itself_is_seen(payload: bytes) -> None:
    assert list(strange(payload))


@pytest.mark.parametrize(
    "payload",
    [
        b"GET / HTTP/1.1\r\nHost: films.example\r\nUser-Agent: xxxxxxx\r\n\r\n",
        b"220 mail.example ESMTP xxxxxxxxx ready\r\n",
        b"INVITE sip:lab@scans.example SIP/2.0\r\nVia: SIP/2.0/UDP 10.61.0.41:5060;branch=z9hG4bK7\r\n",
    ],
)
def test_words_of_protocols_are_nobodys(payload: bytes) -> None:
    assert list(strange(payload)) == []
