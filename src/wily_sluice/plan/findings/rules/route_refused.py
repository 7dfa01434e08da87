"""A route over a line that refuses all that the route matches."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.reach.refused import refused


def find(checked: Checked) -> Iterator[Told]:
    """Each such route, and each whose `else` is such a line."""
    for route, lines in refused(checked.plan):
        shares = [name for name, _ in route.shares]
        chosen = [name for name in shares if name in lines]
        if chosen:
            one = len(chosen) == 1
            message = f"{' and '.join(chosen)} {'refuses' if one else 'refuse'} the queue of all that it matches"
            left = [name for name in (*shares, route.otherwise) if name and name not in lines]
            message += f", so it only uses {' and '.join(left)}" if left else ", so it is never used"
            yield Told(("routes", route.index), message, "choose another line, or take the queue out of `refuses`")
        elif route.otherwise in lines:
            message = f"{route.otherwise} refuses the queue of all that the route matches, so it never takes over"
            yield Told(("routes", route.index, "else"), message, "choose another line")


KIND = Kind(
    "route-refused",
    "warning",
    find,
    whole=True,
    once=True,
    story="""\
The uplinks of a route skip conversations whose queue they refuse. If they refuse every queue that the route's
traffic uses, the route has no effect.
""",
    has="""\
uplinks:
  line: {}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, refuses: [rest]}
rules:
  - {local: office, queue: rest}
routes:
  - {local: office, uplink: mobile, else: line}
""",
    lacks="""\
uplinks:
  line: {}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s, refuses: [rest]}
rules:
  - {local: office, port: 80, queue: rest}
  - {local: office, queue: calls}
routes:
  - {local: office, uplink: mobile, else: line}
""",
)
