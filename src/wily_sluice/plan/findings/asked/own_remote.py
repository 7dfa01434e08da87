"""A remote that is a local host."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings


def find(checked: Checked) -> Iterator[Told]:
    """Each remote."""
    for asking in askings(checked):
        if asking.remote is not None and (own := asking.remote.addresses & checked.hosts):
            message = f"{own} are your own hosts: traffic between your own hosts is not shaped"
            yield Told((*asking.location, "remote"), message, "write `local:`, or name the far side")


KIND = Kind(
    "own-remote",
    "warning",
    find,
    story="""\
The remote is on the internet side of an uplink. Traffic between your own hosts does not use an uplink and is not
shaped.
""",
    has="""\
rules:
  - {remote: 198.51.100.9, queue: calls}
""",
    lacks="""\
rules:
  - {remote: 203.0.113.9, queue: calls}
""",
)
