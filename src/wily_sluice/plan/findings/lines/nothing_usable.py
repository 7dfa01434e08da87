"""A headroom that leaves nothing of the line."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each uplink."""
    for uplink in checked.plan.uplinks:
        if uplink.headroom >= 1:
            location = ("uplinks", uplink.name, "headroom")
            yield Told(location, "nothing of the line is left", "write it like 8%")


KIND = Kind(
    "nothing-usable",
    "error",
    find,
    story="""\
Headroom is the part of the line that is left free. At 100%, no rate is left for any queue.
""",
    has="""\
uplinks:
  line: {headroom: 100%}
""",
    lacks="""\
uplinks:
  line: {headroom: 50%}
""",
)
