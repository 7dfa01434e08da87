"""A remote by an IPv4-mapped address, which no packet carries (RFC 4291 §2.5.5.2)."""

from collections.abc import Iterator
from contextlib import suppress
from ipaddress import IPv6Address
from typing import Any

from wily_sluice.plan.edit.operations import Operation, Set, at
from wily_sluice.plan.file.addresses import address_set
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings

MAPPED = address_set("::ffff:0:0/96")


def find(checked: Checked) -> Iterator[Told]:
    """Each remote."""
    for asking in askings(checked):
        if asking.remote is not None and (mapped := asking.remote.addresses & MAPPED):
            message = f"{mapped} is IPv4-mapped, which no packet carries"
            location = (*asking.location, "remote")
            yield Told(location, message, "write the IPv4 address", _fix(location, at(checked.document.data, location)))


def _fix(location: Location, written: Any) -> tuple[Operation, ...]:
    """Each such address as the IPv4 address that it maps."""
    places = enumerate(written) if isinstance(written, list) else [(None, written)]
    found: list[Operation] = []
    for index, word in places:
        with suppress(ValueError):
            mapped = IPv6Address(word).ipv4_mapped
            if mapped is not None:
                found.append(Set(location if index is None else (*location, index), str(mapped)))
    return tuple(found)


KIND = Kind(
    "mapped-remote",
    "warning",
    find,
    story="""\
`::ffff:203.0.113.9` is a way to write an IPv4 address inside a program (RFC 4291 §2.5.5.2). No packet on the wire
carries it.
""",
    has="""\
rules:
  - {remote: "::ffff:203.0.113.9", queue: calls}
""",
    lacks="""\
rules:
  - {remote: 203.0.113.9, queue: calls}
""",
)
