"""Ports of a protocol that has none."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings

WITH_PORTS = {6, 17, 33, 132, 136}  # TCP, UDP, DCCP, SCTP, UDP-Lite


def find(checked: Checked) -> Iterator[Told]:
    """Each rule and limiter."""
    for asking in askings(checked):
        if asking.protocols and not set(asking.protocols) & WITH_PORTS:
            for key, ports in (("port", asking.ports), ("local-port", asking.local_ports)):
                if ports:
                    location = (*asking.location, key)
                    yield Told(location, "this protocol has no ports", "remove “port” or “protocol”")


KIND = Kind(
    "ports-without-protocol",
    "error",
    find,
    story="""\
Only TCP, UDP, SCTP, DCCP and UDP-Lite have ports. A rule for ports of another protocol can never match.
""",
    has="""\
rules:
  - {protocol: icmp, port: 80, queue: calls}
""",
    lacks="""\
rules:
  - {protocol: icmp, queue: calls}
""",
)
