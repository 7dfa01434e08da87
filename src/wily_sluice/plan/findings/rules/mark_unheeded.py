"""A mark that no uplink honours."""

from collections.abc import Iterator

from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each rule that marks, where no uplink that it can use honours marks."""
    for rule in checked.plan.sorting:
        if rule.mark is None:
            continue
        lines = [u for u in checked.plan.uplinks if u.name in rule.terms.asked.get("uplink", (u.name,))]
        if lines and not any(uplink.honours_marks for uplink in lines):
            message = f"marks {dscp_text((rule.mark,))}, but no uplink has `honours-marks`"
            remedy = "ask the provider; then write `honours-marks: true` at the uplink, or remove the mark"
            yield Told(("rules", rule.index, "mark"), message, remedy)


KIND = Kind(
    "mark-unheeded",
    "warning",
    find,
    story="""\
A mark (DSCP) is a request to routers further along the path. Most providers ignore or erase it. If yours acts on
it, say so at the uplink.
""",
    has="""\
rules:
  - {service: calls, queue: calls, mark: EF}
""",
    lacks="""\
uplinks:
  line: {honours-marks: true}
rules:
  - {service: calls, queue: calls, mark: EF}
""",
)
