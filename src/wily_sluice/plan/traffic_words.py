"""Protocols, ports and DSCPs as a person writes them.

Sources: the IANA registry of protocol numbers; RFC 2474 (class selectors), 2597 (AF), 3246 (EF), 5865 (voice-admit),
8622 (lower effort). Every parser raises ValueError with a message fit for the person.
"""

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


def parse_protocol(word: object) -> tuple[int, ...]:
    """A protocol's numbers: one, or two where IPv6 has its own."""
    if isinstance(word, str) and word.lower() in PROTOCOLS:
        return PROTOCOLS[word.lower()]
    if isinstance(word, int) and not isinstance(word, bool) and 0 <= word <= 255:
        return (word,)
    raise ValueError(f"“{word}” is no protocol: write {', '.join(PROTOCOLS)}, or a number up to 255")


def parse_ports(word: object) -> tuple[tuple[int, int]]:
    """A port, or a range of ports, as first and last."""
    first, dash, last = str(word).partition("-")
    try:
        ports = int(first), int(last) if dash else int(first)
    except ValueError:
        raise ValueError(f"“{word}” is no port: write it like 443 or 5060-5080") from None
    if not 1 <= ports[0] <= ports[1] <= 65535:
        raise ValueError(f"“{word}” is no range of ports: they run upwards, from 1 to 65535")
    return (ports,)


def parse_dscp(word: object) -> tuple[int]:
    """A DSCP by its name or number."""
    if isinstance(word, str) and word.upper() in DSCPS:
        return (DSCPS[word.upper()],)
    if isinstance(word, int) and not isinstance(word, bool) and 0 <= word <= 63:
        return (word,)
    raise ValueError(f"“{word}” is no DSCP: write EF, AF41, CS1, VA, LE, DF and so on, or a number up to 63")


def protocol_text(numbers: tuple[int, ...]) -> str:
    """Protocols by name where they have one."""
    names = [name.upper() for name, of in PROTOCOLS.items() if set(of) <= set(numbers)]
    named = {number for name in names for number in PROTOCOLS[name.lower()]}
    return " or ".join(names + [f"protocol {number}" for number in numbers if number not in named])


def ports_text(ports: tuple[tuple[int, int], ...]) -> str:
    """`5060-5080 or 443`."""
    return " or ".join(str(first) if first == last else f"{first}-{last}" for first, last in ports)


def dscp_text(dscps: tuple[int, ...]) -> str:
    """DSCPs by name where they have one."""
    names = {number: name for name, number in reversed(DSCPS.items())}
    return " or ".join(names.get(number, str(number)) for number in dscps)
