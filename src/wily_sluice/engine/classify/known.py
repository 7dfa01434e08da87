"""Recognition's results for a conversation, with the evidence. Recognition writes them, sorting reads them."""

from typing import Final

from mypy_extensions import mypyc_attr


@mypyc_attr(native_class=False)  # so that other parts of the program may make and keep it
class Known:
    """`seen` is the recognised protocol, such as `tls`; empty if not certain.

    `names` are the names of the remote, the likeliest first. `likely` is a probable protocol. `evidence` gives the
    reasons for people. `foreign` means that the first packets were examined and match no known protocol. `opened` is
    the service for which the local port was opened.
    """

    __slots__ = ("evidence", "foreign", "likely", "names", "opened", "seen")

    def __init__(
        self,
        seen: str = "",
        names: tuple[str, ...] = (),
        evidence: tuple[str, ...] = (),
        likely: str = "",
        foreign: bool = False,
        opened: str = "",
    ) -> None:
        self.seen = seen
        self.names = names
        self.evidence = evidence
        self.likely = likely
        self.foreign = foreign
        self.opened = opened


NOTHING: Final = Known()

PROTOCOLS_SEEN: dict[str, str] = {
    "bittorrent": "BitTorrent between peers (BEP 3)",
    "dht": "BitTorrent's distributed table (BEP 5)",
    "dns": "names (RFC 1035)",
    "dtls": "encrypted datagrams (RFC 9147, RFC 6347)",
    "dtls-srtp": "the keys of a call's media, by DTLS (RFC 5764)",
    "http": "the web, in the clear (RFC 9112)",
    "ike": "keys of IPsec (RFC 7296)",
    "imap": "mail, as it is fetched (RFC 9051)",
    "ipsec": "IPsec within UDP (RFC 3948)",
    "ntp": "time (RFC 5905)",
    "pop3": "mail, as it is fetched (RFC 1939)",
    "quic": "encrypted streams over UDP (RFC 9000)",
    "rfb": "a remote desk (RFC 6143)",
    "rtp": "sound or picture of a call (RFC 3550)",
    "rtsp": "control of a stream (RFC 7826)",
    "sip": "signalling of calls (RFC 3261)",
    "smtp": "mail, as it is sent (RFC 5321)",
    "ssh": "a secure shell (RFC 4253)",
    "ssp": "a remote terminal over UDP",
    "stun": "finding a way through a NAT, for calls and games (RFC 8489)",
    "tls": "encrypted streams over TCP (RFC 8446)",
    "utp": "bulk between peers over UDP (BEP 29)",
    "wireguard": "a tunnel of the WireGuard protocol",
}
