"""Two uplinks, tunnels or networks that name one interface."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each but the first that names it."""
    owners: dict[str, str] = {}
    plan = checked.plan
    for kind, parts in (("uplinks", plan.uplinks), ("tunnels", plan.tunnels), ("networks", plan.networks)):
        for part in parts:
            if part.interface in owners:
                message = f"{part.interface} is already the interface of {owners[part.interface]}"
                yield Told((kind, part.name, "interface"), message, "each needs its own")
            owners.setdefault(part.interface, part.name)


KIND = Kind(
    "interface-shared",
    "error",
    find,
    story="""\
The gate recognises uplinks, tunnels and networks by their interfaces. If two have the same interface, it cannot
know which one a packet belongs to.
""",
    has="""\
networks:
  guests: {interface: lan0}
""",
    lacks="""\
networks:
  guests: {interface: lan2}
""",
)
