"""A limiter for hosts by their IPv4 addresses alone, where their network has IPv6 as well."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.plan.findings.parties import network_with_ipv6


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter; what it says of the remote may rule IPv6 out anyway."""
    for limiter, _ in capping(checked):
        if limiter.local is not None and limiter.remote is None:
            network = network_with_ipv6(checked.plan, limiter.local)
            if network is not None:
                message = f"covers IPv4 only, but {network} has IPv6: these hosts are not capped there"
                remedy = "add their IPv6 addresses, or name them by hardware address"
                yield Told(("limiters", limiter.name, "local"), message, remedy)


KIND = Kind("caps-one-version", "warning", find)
