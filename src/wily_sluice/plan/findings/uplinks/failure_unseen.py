"""An uplink with an alternative, whose failure is not noticed while its link stays up."""

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
When a provider's network fails, the link to the modem usually stays up, and packets get no answer. Routes keep
using the uplink unless the gate probes it. With `probe`, the gate pings remotes that you name once a second, for
instance your provider's DNS servers, and leaves the uplink when several pings in a row get no answer.
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
