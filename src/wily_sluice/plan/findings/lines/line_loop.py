"""A line that leads back to where its packets come from."""

from collections.abc import Iterator
from ipaddress import ip_address

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each next hop and each far end that is an own host; each route of what carries a tunnel, into that tunnel."""
    plan = checked.plan
    for kind, lines in (("uplinks", plan.uplinks), ("tunnels", plan.tunnels)):
        for line in lines:
            for address in line.next_hops:
                if ip_address(address).packed in plan.hosts:
                    message = f"{address} is one of your own hosts, so what is led there comes back"
                    yield Told((kind, line.name, "next-hop"), message, "name the router at the line's far end")
    for tunnel in plan.tunnels:
        for address in tunnel.remotes:
            packed = ip_address(address).packed
            if packed in plan.hosts:
                message = f"{address} is one of your own hosts, so the tunnel leads back into your own network"
                yield Told(("tunnels", tunnel.name, "remote"), message, "name its far end, beyond an uplink")
            for route in plan.routing:
                remote = route.terms.remote
                into = {name for name, _ in route.shares} | {route.otherwise}
                if remote is not None and packed in remote.addresses and tunnel.name in into:
                    loop = f"leads {address} into {tunnel.name}, whose far end it is"
                    message = f"{loop}: so that this is no loop, {tunnel.uplink} is taken"
                    yield Told(("routes", route.index), message, "leave this address out")


KIND = Kind(
    "line-loop",
    "warning",
    find,
    story="""\
A line is to lead away. If its next hop, or the far end of a tunnel, is one of your own hosts, packets come back to
where they came from. And what carries a tunnel cannot itself go through it: such a route is not followed.
""",
    has="""\
uplinks:
  line: {next-hop: 192.0.2.1}
""",
    lacks="""\
uplinks:
  line: {next-hop: 203.0.113.1}
""",
)
