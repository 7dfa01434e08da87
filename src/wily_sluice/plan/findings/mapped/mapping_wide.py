"""Mappings of any port among very many."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told

WIDE = 1000  # ports


def find(checked: Checked) -> Iterator[Told]:
    """Each grant that is this wide."""
    for grant in checked.plan.granting:
        most = max((sum(last - first + 1 for first, last in spans) for spans in grant.ports.values()), default=0)
        if most > WIDE:
            message = f"{most} ports may be opened, among them those of services that nobody means to offer"
            yield Told(("mappings", grant.index, "port"), message, "write the ports that the devices ask for")


KIND = Kind(
    "mapping-wide",
    "warning",
    find,
    story="""\
A device usually asks for a port of its own game or call program, and its maker says which. Among thousands of ports are
those of other programs on the same device, such as remote desks and databases, which could be reached then.

`sluice mappings` shows what was asked for and refused.
""",
    has="""\
mappings:
  - {local: 192.0.2.20, port: 1024-65535}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 3000-3100}
""",
)
