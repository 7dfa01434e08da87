"""A route that no conversation reaches: earlier ones match all its conversations and have an uplink whenever it has."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rules.rule_unreachable import listed, unsure


def find(checked: Checked) -> Iterator[Told]:
    """Each such route, and each whose terms exclude each other."""
    for route, by in checked.routes_out_of_reach:
        location = ("routes", route.index)
        if not by:
            yield Told(location, "can never match: its conditions exclude each other", "take a part out")
            continue
        match = "already matches" if len(by) == 1 else "together already match"
        never = "may never be reached" if any(unsure(one.terms) for one in (route, *by)) else "is never reached"
        message = f"{never}: {listed(by)} above it {match} everything that it would, whichever lines are up"
        yield Told(location, message, "move it up or remove it")


KIND = Kind(
    "route-unreachable",
    "warning",
    find,
    whole=True,
    story="""\
The first matching route with a working uplink decides. Earlier routes already match all the conversations of this
route and have a working uplink whenever this route has one, so it has no effect here. Put exceptions ahead of the
general case. A later route that serves when the earlier uplinks are down is not reported.
""",
    has="""\
routes:
  - {name: Rest, uplink: line}
  - {name: Office, local: office, uplink: line}
""",
    lacks="""\
routes:
  - {name: Office, local: office, uplink: line}
  - {name: Rest, uplink: line}
""",
)
