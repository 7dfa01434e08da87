"""Protocols, ports and DSCPs as a person writes them.

`moved`, `rate`, kinds of packets and ports of a service are here too.

Sources: the IANA registry of protocol numbers; RFC 2474 (class selectors), 2597 (AF), 3246 (EF), 5865 (voice-admit),
8622 (lower effort). Every parser raises ValueError with a message fit for the person.
"""

import re

from wily_sluice.engine.classify.addresses import LONGEST, normal
from wily_sluice.engine.classify.header import KIND_NAMES
from wily_sluice.units import Nanoseconds, Rate, Size, parse_rate, parse_size, parse_time, quoted

PROTOCOLS: dict[str, tuple[int, ...]] = {
    "tcp": (6,),
    "udp": (17,),
    "icmp": (1, 58),  # RFC 792 and, for IPv6, RFC 4443: the person means both
    "dccp": (33,),
    "gre": (47,),
    "esp": (50,),
    "ah": (51,),
    "sctp": (132,),
    "udplite": (136,),
}
DSCPS: dict[str, int] = {
    "DF": 0,
    "LE": 1,
    "EF": 46,
    "VA": 44,
    **{f"CS{selector}": selector * 8 for selector in range(8)},
    **{f"AF{group}{drop}": group * 8 + drop * 2 for group in range(1, 5) for drop in range(1, 4)},
}
_PORTS = re.compile(r"\s*([0-9]{1,5})\s*(?:-\s*([0-9]{1,5})\s*)?")


def parse_protocol(word: object) -> tuple[int, ...]:
    """A protocol's numbers: one, or two where IPv6 has its own."""
    if isinstance(word, str) and word.lower() in PROTOCOLS:
        return PROTOCOLS[word.lower()]
    if isinstance(word, int) and not isinstance(word, bool) and 0 <= word <= 255:
        return (word,)
    raise ValueError(f"{quoted(word)} is not a protocol: write {', '.join(PROTOCOLS)}, or a number up to 255")


def parse_ports(word: object) -> tuple[tuple[int, int]]:
    """A port, or a range of ports, as first and last."""
    match = _PORTS.fullmatch(str(word)) if isinstance(word, (str, int)) and not isinstance(word, bool) else None
    if match is None:
        raise ValueError(f"{quoted(word)} is not a port: write it like 443 or 5060-5080")
    ports = int(match[1]), int(match[2] or match[1])
    if not 1 <= ports[0] <= ports[1] <= 65535:
        raise ValueError(f"{quoted(word)} is not a port range: ports are 1 to 65535, the lower one first")
    return (ports,)


def parse_port_word(word: object) -> tuple[int | None, tuple[int, int]]:
    """`443`, `5060-5080` or `443/tcp`: the protocol number if given, with the first and the last port."""
    text, slash, transport = str(word).partition("/")
    if isinstance(word, bool) or (slash and transport not in TRANSPORTS):
        raise ValueError(f"{quoted(word)} is not a port: write it like 443, 5060-5080 or 443/tcp")
    return TRANSPORTS[transport] if slash else None, parse_ports(text if slash else word)[0]


def parse_dscp(word: object) -> tuple[int]:
    """A DSCP by its name or number."""
    if isinstance(word, str) and word.upper() in DSCPS:
        return (DSCPS[word.upper()],)
    if isinstance(word, int) and not isinstance(word, bool) and 0 <= word <= 63:
        return (word,)
    raise ValueError(f"{quoted(word)} is not a DSCP: write EF, AF41, CS1, VA, LE, DF and so on, or a number up to 63")


_LABEL = r"[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?"
_HOST_NAME = re.compile(rf"(\*\.)?({_LABEL}\.)*{_LABEL}", re.IGNORECASE)
TRANSPORTS = {"tcp": 6, "udp": 17, "sctp": 132, "dccp": 33}


def looks_like_host_name(word: str) -> bool:
    """Whether a word looks like a host name: it has a dot."""
    return "." in word.rstrip(".") and not word[:1].isdigit()


def parse_host_name(word: object) -> str:
    """A host name (RFC 1123), or `*.` and one for all below it."""
    if not isinstance(word, str) or len(word) > LONGEST or not _HOST_NAME.fullmatch(word.rstrip(".")):
        raise ValueError(f"{quoted(word)} is not a host name: write it like meet.example or *.meet.example")
    return normal(word)


def parse_service_port(word: object) -> tuple[tuple[int, tuple[int, int]], ...]:
    """`443/tcp`, `5000-5010/udp`, or `5060` for both TCP and UDP: protocol numbers, each with first and last."""
    if not isinstance(word, (str, int)) or isinstance(word, bool):
        parse_ports(word)
    text, slash, transport = str(word).partition("/")
    if slash and transport not in TRANSPORTS:
        raise ValueError(
            f"{quoted(word)}: a port is of {', '.join(TRANSPORTS)}, like 443/tcp; alone it is of TCP and UDP"
        )
    numbers = (TRANSPORTS[transport],) if slash else (6, 17)
    return tuple((number, parse_ports(text)[0]) for number in numbers)


def parse_kind(word: object) -> tuple[int]:
    """The bit of a kind of packets."""
    if not isinstance(word, str) or word not in KIND_NAMES:
        raise ValueError(f"{quoted(word)} is not a kind of packet: use {', '.join(KIND_NAMES)}")
    return (KIND_NAMES[word],)


def parse_moved(text: object) -> tuple[Size, bool]:
    """`over 20 MB` or `under 512 kB`: the size, and whether it is a lower bound."""
    word, _, size = str(text).partition(" ")
    if word not in ("over", "under") or not size:
        raise ValueError(f"{quoted(text)} needs over or under: write it like over 20 MB or under 512 kB")
    return parse_size(size), word == "over"


def parse_fast(text: object) -> tuple[Rate, Nanoseconds]:
    """`over 2 Mbit/s for 10 s`: the rate, and how long it holds."""
    match = re.fullmatch(r"over (.+) for (.+)", str(text))
    if match is None:
        raise ValueError(f"{quoted(text)} is not valid: write it like over 2 Mbit/s for 10 s")
    longest = parse_time(match[2])
    if not 100_000_000 <= longest <= 3_600_000_000_000:
        raise ValueError(f"“{match[2]}” is not between 100 ms and 1 h")
    return parse_rate(match[1]), longest


def kinds_text(kinds: int) -> str:
    """`handshake or acknowledgement`."""
    return " or ".join(name for name, bit in KIND_NAMES.items() if bit & kinds)


def protocol_text(numbers: tuple[int, ...]) -> str:
    """Protocols by name where they have one."""
    names = [name.upper() for name, of in PROTOCOLS.items() if set(of) <= set(numbers)]
    named = {number for name in names for number in PROTOCOLS[name.lower()]}
    return " or ".join(names + [f"protocol {number}" for number in numbers if number not in named])


def ports_text(ports: tuple[tuple[int, int], ...]) -> str:
    """`5060-5080 or 443`."""
    return " or ".join(str(first) if first == last else f"{first}-{last}" for first, last in ports)


def port_words_text(ports: tuple[tuple[int | None, tuple[int, int]], ...]) -> str:
    """`5060-5080 or 443/tcp`."""
    names = {number: f"/{name}" for name, number in TRANSPORTS.items()}
    return " or ".join(ports_text((span,)) + (names[protocol] if protocol else "") for protocol, span in ports)


def dscp_text(dscps: tuple[int, ...]) -> str:
    """DSCPs by name where they have one."""
    names = {number: name for name, number in reversed(DSCPS.items())}
    return " or ".join(names.get(number, str(number)) for number in dscps)
