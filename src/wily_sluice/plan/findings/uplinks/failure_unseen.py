"""A line that another is to stand in for, and whose failure is not noticed while its link stays up."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink without a probe that a route leaves for another line when it fails."""
    plan = checked.plan
    carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
    unseen: dict[str, str] = {}
    for route in plan.routing:
        lines = [name for name, _ in route.shares] + ([route.otherwise] if route.otherwise is not None else [])
        for name, _ in route.shares:
            others = [other for other in lines if carriers.get(other, other) != carriers.get(name, name)]
            if others:
                unseen.setdefault(carriers.get(name, name), others[0])
    for uplink in plan.uplinks:
        if uplink.probing is None and uplink.name in unseen:
            only = "has no probe, so its failure is only noticed if the link goes down too"
            message = f"{only}; otherwise {unseen[uplink.name]} does not take over"
            yield Told(("uplinks", uplink.name), message, "add `probe:` with remotes that always answer")


KIND = Kind(
    "failure-unseen",
    "note",
    find,
    story="""\
When a line fails, the link between this machine and the modem usually stays up: packets just get no answer. Routes
keep using such a line unless the gate probes it. With `probe`, it sends an echo a second to the remotes that you name,
such as your provider's name servers, and leaves the line when several in a row had no answer.
""",
    has="""\
uplinks:
  line: {}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s}
routes:
  - {uplink: line, else: mobile}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.53]}
  mobile: {interface: wan1, down: 20 Mbit/s, up: 5 Mbit/s}
routes:
  - {uplink: line, else: mobile}
""",
)
