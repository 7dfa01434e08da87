"""A cap for each host that lets two or three hosts fill the uplink."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import capping
from wily_sluice.units import format_rate

FEW = 3  # hosts


def find(checked: Checked) -> Iterator[Told]:
    """Each limiter for each host of more than a few, unless it only holds while others need the line."""
    for limiter, caps in capping(checked):
        if limiter.per.whom not in ("host", "address") or limiter.threshold is not None or limiter.quota is not None:
            continue
        addresses = limiter.local.addresses if limiter.local is not None else checked.hosts
        if sum(int.from_bytes(last) - int.from_bytes(first) + 1 for first, last in addresses) <= FEW:
            continue
        for uplink in checked.plan.uplinks:
            for way, rate in caps.items() if limiter.uplink in (None, uplink.name) else ():
                filling = -(-uplink.usable(way) // rate)
                if 1 < filling <= FEW and limiter.uplink is None and uplink is not checked.plan.uplinks[0]:
                    continue  # a smaller line, for when the first is away
                if 1 < filling <= FEW:
                    message = f"{filling} hosts at {format_rate(rate)} fill {uplink.name} {way}"
                    remedy = "lower it, add `engage: above 80%`, or a second limiter for all hosts together"
                    yield Told(("limiters", limiter.name, way), message, remedy)


KIND = Kind(
    "caps-overbook",
    "warning",
    find,
    story="""\
A cap for each host protects the uplink only if few hosts are busy at once. When two or three hosts fill the uplink,
the others depend on the queues alone.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 20 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 20 Mbit/s, engage: above 80%}
""",
)
