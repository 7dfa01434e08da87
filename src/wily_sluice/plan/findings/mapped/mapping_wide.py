"""Mappings of any port among very many."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told

WIDE = 1000  # ports


def find(checked: Checked) -> Iterator[Told]:
    """Each grant that is this wide."""
    for grant in checked.plan.granting:
        most = max((sum(last - first + 1 for first, last in spans) for spans in grant.ports.values()), default=0)
        if most > WIDE:
            message = f"{most} ports may be opened, including ports of services that you do not mean to offer"
            yield Told(("mappings", grant.index, "port"), message, "write the ports that the devices ask for")


KIND = Kind(
    "mapping-wide",
    "warning",
    find,
    story="""\
A device usually needs one port for its game or call program, and the maker says which. A range of thousands also
contains ports of other programs on the device, such as remote desks and databases. `sluice mappings` and the log
show which ports hosts requested.
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
