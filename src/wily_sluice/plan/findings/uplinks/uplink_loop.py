"""A line that leads back to where its packets come from."""

from collections.abc import Iterator
from ipaddress import ip_address

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each next hop or far end that is a local host; each route that sends a tunnel's encapsulated packets into the
    tunnel.
    """
    plan = checked.plan
    for kind, lines in (("uplinks", plan.uplinks), ("tunnels", plan.tunnels)):
        for line in lines:
            for address in line.next_hops:
                if ip_address(address).packed in plan.hosts:
                    message = f"{address} is a local host: packets sent there would come back"
                    yield Told((kind, line.name, "next-hop"), message, "name the router at the line's far end")
    for tunnel in plan.tunnels:
        for address in tunnel.remotes:
            packed = ip_address(address).packed
            if packed in plan.hosts:
                message = f"{address} is a local host: the tunnel would lead back into your network"
                yield Told(("tunnels", tunnel.name, "remote"), message, "name its far end, beyond an uplink")
            for route in plan.routing:
                remote = route.terms.remote
                into = {name for name, _ in route.shares} | {route.otherwise}
                if remote is not None and packed in remote.addresses and tunnel.name in into:
                    loop = f"sends {address} into {tunnel.name}, but it is the far end of {tunnel.name} itself"
                    message = f"{loop}: to avoid a loop, the gate uses {tunnel.uplink}"
                    yield Told(("routes", route.index), message, "exclude this address")


KIND = Kind(
    "uplink-loop",
    "warning",
    find,
    story="""\
If the next hop of an uplink, or the far end of a tunnel, is one of your own hosts, packets return to where they
came from. The encapsulated packets of a tunnel cannot use the tunnel itself either; the gate ignores such a route.
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
