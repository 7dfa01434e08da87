"""A remote by an IPv4-mapped address, which no packet carries (RFC 4291 §2.5.5.2)."""

from collections.abc import Iterator

from wily_sluice.plan.file.addresses import address_set
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings

MAPPED = address_set("::ffff:0:0/96")


def find(checked: Checked) -> Iterator[Told]:
    """Each remote."""
    for asking in askings(checked):
        if asking.remote is not None and (mapped := asking.remote.addresses & MAPPED):
            message = f"{mapped} is IPv4-mapped, which no packet carries"
            yield Told((*asking.location, "remote"), message, "write the IPv4 address")


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
