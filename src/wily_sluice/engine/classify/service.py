"""Services, and what recognition found about a conversation.

A service: the purpose of a conversation, such as call signalling, recognised by any one sign.

- its port on the local host was opened for the service
- its protocol is in `seen`
- a name of its remote is in `names`
- its remote port is in `ports`, or its remote address in `remote`

Ports and addresses are guesses. They stop counting if the service names its protocols (`seen`, or `over` for protocols
that may carry it) and the conversation speaks another one. If it has both keys, they also stop counting when the first
bytes match no known protocol. A service with a `shape` also requires that behaviour. A `shape` without other signs
matches conversations without a recognised protocol.
"""

from typing import Final

from mypy_extensions import mypyc_attr

from wily_sluice.engine.classify.addresses import AddressSet, NameSet
from wily_sluice.engine.classify.header import Parties


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


class Service:
    """`ports` has the ranges of remote ports, first and last inside, for each protocol number."""

    __slots__ = ("name", "names", "over", "ports", "remote", "seen", "shape")

    def __init__(
        self,
        name: str,
        ports: dict[int, tuple[tuple[int, int], ...]] | None = None,
        seen: frozenset[str] = frozenset(),
        names: NameSet | None = None,
        remote: AddressSet | None = None,
        shape: str = "",
        over: frozenset[str] = frozenset(),
    ) -> None:
        self.name = name
        self.ports: dict[int, tuple[tuple[int, int], ...]] = ports or {}
        self.seen = seen
        self.names = names
        self.remote = remote
        self.shape = shape
        self.over = over

    def sign(self, parties: Parties, known: Known, shape: str) -> str:
        """Why the conversation is of this service, in words; empty when it is not."""
        if known.opened and known.opened == self.name:
            return "uses a port that was opened for it"
        if self.shape and shape != self.shape:
            return ""
        if known.seen and known.seen in self.seen:
            return f"speaks {known.seen}"
        if self.names is not None:
            name = self.names.any_of(known.names)
            if name:
                return f"is with {name}"
        if known.seen and known.seen not in self.over and (self.seen or self.over or self.shape):
            return ""
        if known.foreign and self.seen and self.over:
            return ""
        for first, last in self.ports.get(parties.protocol, ()):
            if first <= parties.remote_port <= last:
                return f"has port {parties.remote_port}"
        if self.remote is not None and parties.remote in self.remote:
            return "has its address"
        if self.shape and not (self.seen or self.ports or self.names is not None or self.remote is not None):
            return f"is {shape}"
        return ""
