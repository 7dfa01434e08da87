"""A rule for hosts by their IPv4 addresses, where their network has IPv6 as well."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import network_with_ipv6


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule; what it says of the remote may rule IPv6 out anyway."""
    for rule in checked.plan.sorting:
        local = rule.terms.local
        if local is None or rule.terms.version is not None or rule.terms.remote is not None:
            continue
        network = network_with_ipv6(checked.plan, local)
        if network is not None:
            message = f"covers IPv4 only, but {network} has IPv6: these hosts' IPv6 traffic goes elsewhere"
            remedy = "add their IPv6 addresses, name them by hardware address, or write `version: 4`"
            yield Told(("rules", rule.index, "local"), message, remedy)


KIND = Kind("rule-one-version", "warning", find, whole=True)
