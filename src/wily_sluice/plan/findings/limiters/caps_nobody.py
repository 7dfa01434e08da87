"""A limiter whose hosts are none."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter."""
    for limiter, _ in capping(checked):
        if limiter.local is not None and not limiter.local.members:
            location = ("limiters", limiter.name, "local")
            yield Told(location, "matches no host, so this limiter never applies", "name some hosts")


KIND = Kind(
    "caps-nobody",
    "warning",
    find,
    whole=True,
    story="""\
The group excludes all of its members, so the limiter never applies.
""",
    has="""\
groups:
  visitors: {members: [guests], except: [guests]}
limiters:
  visitor: {local: visitors, down: 5 Mbit/s}
""",
    lacks="""\
groups:
  visitors: {members: [guests], except: [198.51.100.9]}
limiters:
  visitor: {local: visitors, down: 5 Mbit/s}
""",
)
