"""Mappings of ports on which services listen."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told

FIRST_FREE = 1024  # those before are for services (RFC 6335 §6)


def find(checked: Checked) -> Iterator[Told]:
    """Each grant with such ports."""
    for grant in checked.plan.granting:
        low = min((first for spans in grant.ports.values() for first, _ in spans), default=FIRST_FREE)
        if low < FIRST_FREE:
            message = f"port {low} is a port of system services, such as logins and shared files"
            yield Told(("mappings", grant.index, "port"), message, f"begin at {FIRST_FREE} or above")


KIND = Kind(
    "mapping-low-port",
    "warning",
    find,
    story="""\
Games and calls use ports from 1024 on. Lower ports (system ports in RFC 6335) belong to logins, file shares and
remote control for your local network, and a mapping would open them to the internet.
""",
    has="""\
mappings:
  - {local: 192.0.2.20, port: 22-3010}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 1024-1100}
""",
)
