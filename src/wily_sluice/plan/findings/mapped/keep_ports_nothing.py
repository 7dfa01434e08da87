"""`keep-ports` without any local host."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """The list, if none of its hosts is in a network of the plan."""
    steady, hosts = checked.plan.steady, checked.plan.hosts
    if steady is not None and hosts and not steady.addresses & hosts:
        yield Told(("nat", "keep-ports"), "no host here is in a network of the plan", "name local hosts")


KIND = Kind(
    "keep-ports-nothing",
    "warning",
    find,
    whole=True,
    story="""\
Ports can be kept where the addresses of your hosts are translated. These are remotes or host names, so the setting
has no effect.
""",
    has="""\
nat: {keep-ports: [203.0.113.20]}
""",
    lacks="""\
nat: {keep-ports: [192.0.2.20]}
""",
)
