"""Networks that share addresses: a host is in one of them."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each pair."""
    networks = checked.plan.networks
    for index, network in enumerate(networks):
        for earlier in networks[:index]:
            if overlap := network.addresses & earlier.addresses:
                message = f"{overlap} is also in {earlier.name}"
                yield Told(("networks", network.name, "subnets"), message, "a host can be in one network only")


KIND = Kind("networks-overlap", "error", find)
