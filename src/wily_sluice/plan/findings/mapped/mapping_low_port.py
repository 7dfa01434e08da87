"""Mappings of ports on which services listen."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told

FIRST_FREE = 1024  # those before are for services (RFC 6335 §6)


def find(checked: Checked) -> Iterator[Told]:
    """Each grant with such ports."""
    for grant in checked.plan.granting:
        low = min((first for spans in grant.ports.values() for first, _ in spans), default=FIRST_FREE)
        if low < FIRST_FREE:
            message = f"port {low} is one of those on which services listen, such as logins and shared files"
            yield Told(("mappings", grant.index, "port"), message, f"begin at {FIRST_FREE} or above")


KIND = Kind(
    "mapping-low-port",
    "warning",
    find,
    story="""\
Games and calls use ports from 1024 on. On lower ones, hosts offer logins, files and remote control to your own network
(RFC 6335 calls them system ports), and a mapping would offer them to the whole internet.
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
