"""A probe of a line that goes where no line leads."""

from collections.abc import Iterator
from ipaddress import ip_address

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each remote of a probe that is a host of the site, this machine, or several."""
    for uplink in checked.plan.uplinks:
        for remote in uplink.probing.remotes if uplink.probing is not None else ():
            address = ip_address(remote)
            if address.is_loopback or address.is_unspecified:
                what = "is this machine itself"
            elif address.packed in checked.hosts:
                what = "is a local host"
            elif address.is_multicast or remote == "255.255.255.255":
                what = "is no single remote"
            elif address.is_link_local:
                what = "is on one link only"
            else:
                continue
            message = f"{remote} {what}, so it never answers over {uplink.name}"
            yield Told(("uplinks", uplink.name, "probe"), message, "name a remote beyond the line that always answers")


KIND = Kind(
    "probe-nowhere",
    "warning",
    find,
    story="""\
A probe tests an uplink with a remote on the internet. A local address, or one that many machines share, never
answers, even if the uplink works.
""",
    has="""\
uplinks:
  line: {probe: [198.51.100.53]}
""",
    lacks="""\
uplinks:
  line: {probe: [203.0.113.53]}
""",
)
