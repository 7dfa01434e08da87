"""A quota for each conversation, which ends long before the period."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping


def find(checked: Checked) -> Iterator[Told]:
    """Each such limiter."""
    for limiter, _ in capping(checked):
        if limiter.quota is not None and limiter.per.whom == "conversation":
            message = (
                f"a conversation is over long before the {limiter.quota.period}, so a quota for each has no effect"
            )
            remedy = "write `per: host`, `per: subnet/28`, or none"
            yield Told(("limiters", limiter.name, "quota"), message, remedy)


KIND = Kind(
    "quota-of-conversation",
    "error",
    find,
    story="""\
A conversation lasts seconds or minutes. A quota for each conversation in a month is never reached.
""",
    has="""\
limiters:
  visitors: {local: guests, per: conversation, down: 10 kbit/s, quota: 4 GB per day}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 10 kbit/s, quota: 4 GB per day}
""",
)
