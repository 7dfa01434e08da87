"""Ports that are to be kept for nobody."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """The list, if none of its hosts is in a network of the plan."""
    steady, hosts = checked.plan.steady, checked.plan.hosts
    if steady is not None and hosts and not steady.addresses & hosts:
        yield Told(("nat", "keep-ports"), "none of these hosts is in a network of the plan", "name hosts of your own")


KIND = Kind(
    "keep-ports-nothing",
    "warning",
    find,
    whole=True,
    story="""\
Ports are kept where your hosts' addresses are translated. For remotes, and for names, there is nothing to keep.
""",
    has="""\
nat: {keep-ports: [203.0.113.20]}
""",
    lacks="""\
nat: {keep-ports: [192.0.2.20]}
""",
)
