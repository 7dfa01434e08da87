"""Words that people write: lists, names, ports and addresses, and guesses at unknown words.

Addresses as a person writes them: one, a range, or a subnet, of IPv4 (RFC 791) or IPv6 (RFC 4291).

Every parser raises ValueError with a message fit for the person.
"""

import re
from collections.abc import Sequence
from difflib import get_close_matches
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network
from typing import Annotated, Any

from pydantic import BeforeValidator

from wily_sluice.engine.classify.addresses import AddressSet, Range
from wily_sluice.units import quoted

MOST_LISTED = 16  # known words that a message lists


# By the word that is meant, others that people use for it.
SYNONYMS = {
    "calls": "voip voice telephony telephone phone phones call",
    "meetings": "conference conferences conferencing video-call video-calls videoconference video-conference meeting",
    "play": "game games gaming console consoles",
    "swarms": "torrent torrents p2p peer-to-peer file-sharing filesharing",
    "names-and-time": "dns ntp time clock",
    "tunnels": "vpn vpns tunnel",
    "mail": "email e-mail",
    "web": "http https browsing internet www",
    "streaming": "video videos films movies tv television radio music stream",
    "remote-desks": "ssh rdp vnc remote-desktop desktop shell",
    "printing": "print printer printers scanner",
    "files": "smb nfs ftp fileserver file-server backup backups",
    "updates": "update download downloads patches",
    "management": "snmp syslog monitoring",
    "down": "download downlink downstream ingress in rx",
    "up": "upload uplink upstream egress out tx",
    "local": "source src host hosts from lan inside client",
    "remote": "destination dst to server wan outside peer",
    "guarantee": "min minimum reserve reserved assured committed rate",
    "cap": "max maximum ceiling limit upper-limit",
    "priority": "prio precedence importance",
    "weight": "share shares ratio",
    "delay": "latency max-delay",
    "when": "schedule time hours during",
    "queue": "class target into action",
    "queues": "classes children",
    "rules": "filters policies matches",
    "limiters": "limits limit policers caps",
    "uplinks": "lines wans links interfaces",
    "networks": "lans subnets",
    "service": "app application services",
    "protocol": "proto",
    "port": "ports dport sport",
    "engage": "threshold above",
    "framing": "encapsulation",
    "carried-in": "cells",
    "shortest-frame": "minimum",
    "frame-adds": "overhead",
    "mappings": "openings forwards",
    "mapping": "opening forward",
    "probe": "health",
    "headroom": "reserve margin",
    "interface": "device dev iface nic",
    "subnets": "subnet addresses prefixes",
    "members": "hosts addresses",
    "excess": "overflow exceed",
    "mark": "dscp tag",
    "udplite": "udp-lite",
    "icmp": "ping icmpv6 icmp6",
}
MEANT = {word: meant for meant, words in reversed(SYNONYMS.items()) for word in words.split()}


def suggestion(word: str, known: Sequence[str], where: str = "") -> str:
    """`did you mean “headroom”?`, or the known words; where these are many, `where` says what lists them."""
    near = get_close_matches(word.lower(), known, n=1, cutoff=0.7)
    meant = near[0] if near else MEANT.get(word.lower(), "")
    if meant not in known:
        near = get_close_matches(word, known, n=1, cutoff=0.6)
        meant = near[0] if near else ""
    if meant:
        return f"did you mean “{meant}”?"
    if len(known) > MOST_LISTED and where:
        return where
    return f"known here: {', '.join(known)}" if known else ""


_NAME = re.compile(r"[^\W\d][\w.-]*")


def listed(value: Any) -> Any:
    """A single value where a list may stand is a list of one."""
    return value if isinstance(value, list) else [value]


def flat(parse: Any) -> BeforeValidator:
    """Parse a value, or each value of a list, and join the results."""

    def parse_all(value: object) -> tuple[Any, ...]:
        values = listed(value)
        if not values:
            raise ValueError("the list is empty: leave the key out to mean any")
        return tuple(part for item in values for part in parse(item))

    return BeforeValidator(parse_all)


def parse_name(text: object) -> str:
    """A name that a part of a plan can have."""
    if not isinstance(text, str) or not _NAME.fullmatch(text):
        raise ValueError(
            f"{quoted(text)} is not a valid name: start with a letter, then use letters, digits, - _ and ."
        )
    return text


def _words(value: object) -> tuple[str, ...]:
    words = listed(value)
    if not words or not all(isinstance(word, str) and word.strip() for word in words):
        raise ValueError("write names of groups or networks, addresses, ranges or subnets")
    return tuple(word.strip() for word in words)


def _port_words(value: object) -> tuple[str | int, ...]:
    words = listed(value)
    if not words or not all(isinstance(word, (str, int)) and not isinstance(word, bool) for word in words):
        raise ValueError("write ports like 443, 5060-5080 or 443/tcp, or groups of ports")
    return tuple(words)


Name = Annotated[str, BeforeValidator(parse_name)]
Words = Annotated[tuple[str, ...], BeforeValidator(_words)]
PortWords = Annotated[tuple[str | int, ...], BeforeValidator(_port_words)]


def parse_prefix(text: object) -> IPv4Network | IPv6Network:
    """Read a subnet. Bits beyond the prefix are an error: the person may have meant the host, or another prefix."""
    if not isinstance(text, str) or "/" not in text:
        raise ValueError(f"{quoted(text)} is not a subnet: write it like 10.61.0.0/24 or fd61::/64")
    try:
        return ip_network(text.strip())
    except ValueError:
        try:
            meant = ip_network(text.strip(), strict=False)
        except ValueError:
            raise ValueError(f"{quoted(text)} is not a subnet: write it like 10.61.0.0/24 or fd61::/64") from None
        raise ValueError(f"{quoted(text)} has bits set beyond its prefix: the subnet is {meant}") from None


def parse_range(text: str) -> Range:
    """Read `10.61.0.40`, `10.61.0.40-10.61.0.59`, `10.61.0.0/24`, or the same for IPv6."""
    if "/" in text:
        prefix = parse_prefix(text)
        return prefix.network_address.packed, prefix.broadcast_address.packed
    first_text, dash, last_text = text.partition("-")
    try:
        first = ip_address(first_text.strip())
        last = ip_address(last_text.strip()) if dash else first
    except ValueError:
        raise ValueError(
            f"{quoted(text)} is not an address, range or subnet: "
            "write it like 10.61.0.40, 10.61.0.40-10.61.0.59 or 10.61.0.0/24"
        ) from None
    if first.version != last.version:
        raise ValueError(f"{quoted(text)} runs from IPv{first.version} to IPv{last.version}")
    if first.packed > last.packed:
        raise ValueError(f"{quoted(text)} runs backwards: write {last}-{first}")
    return first.packed, last.packed


_HARDWARE = re.compile(r"[0-9a-f]{2}([:-][0-9a-f]{2}){5}", re.IGNORECASE)


def parse_hardware(text: str) -> bytes | None:
    """A hardware address such as `02:00:5e:10:00:01` (IEEE 802, 48 bits); None for other words."""
    if not _HARDWARE.fullmatch(text):
        return None
    return bytes.fromhex(text.replace(":", "").replace("-", ""))


def hardware_text(address: bytes) -> str:
    """`02:00:5e:10:00:01`."""
    return address.hex(":")


def looks_like_address(word: str) -> bool:
    """Whether a word looks like an address rather than a name."""
    return word[:1].isdigit() or ":" in word or "/" in word


def address_set(text: str) -> AddressSet:
    """The set of a single written address, range or subnet."""
    return AddressSet([parse_range(text)])
