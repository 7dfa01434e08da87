"""A network that no rule and no limiter is about, where they are about others."""

from collections.abc import Iterator

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.parties import askings


def find(checked: Checked) -> Iterator[Told]:
    """Each such network, if at least two others are named and one is limited."""
    networks = checked.plan.networks
    limited = AddressSet(part for lim in checked.plan.limiters if lim.local is not None for part in lim.local.addresses)
    named = [one.local.addresses for one in askings(checked) if one.local is not None]
    named += [terms.networks.addresses for _, terms in checked.asked if terms.networks is not None]
    everybody = any(lim.local is None and lim.enabled for lim in checked.plan.limiters)
    touched = {one.name for one in networks if any(one.addresses & addresses for addresses in named)}
    capped = [one.name for one in networks if one.addresses & limited]
    for network in networks if len(touched) > 1 and capped and not everybody else ():
        if network.name not in touched:
            message = f"no rule or limiter is about it, while {capped[0]} is limited: its hosts can fill the line"
            yield Told(("networks", network.name), message, "add a limiter or a rule for it")


KIND = Kind(
    "network-unlimited",
    "warning",
    find,
    whole=True,
    story="""\
A limit for guests is of little use if another network without a limit shares the uplink, perhaps one added later
for cameras or a neighbour.
""",
    has="""\
networks:
  cameras: {interface: lan2, subnets: [203.0.113.0/25]}
limiters:
  visitors: {local: guests, per: host, down: 5 Mbit/s}
  staff: {local: office, down: 40 Mbit/s}
""",
    lacks="""\
networks:
  cameras: {interface: lan2, subnets: [203.0.113.0/25]}
limiters:
  visitors: {local: guests, per: host, down: 5 Mbit/s}
  staff: {local: office, down: 40 Mbit/s}
  cameras: {local: cameras, up: 2 Mbit/s}
""",
)
