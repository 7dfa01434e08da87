"""A limiter that has no effect, since another is tighter for the same hosts."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.limiters.ways import caps_of
from wily_sluice.plan.model import Limiter, Plan


def find(checked: Checked) -> Iterator[Told]:
    """One of each such pair."""
    for index, limiter in enumerate(checked.plan.limiters):
        for other in checked.plan.limiters[:index]:
            yield from _two(checked.plan, limiter, other)


def _covers(plan: Plan, wide: Limiter, narrow: Limiter) -> bool:
    """Whether everything that `narrow` matches is matched by `wide`, whenever it applies."""
    local = wide.local
    everybody = local is not None and not any(network.addresses - local.addresses for network in plan.networks)
    for party, inner in ((wide.local, narrow.local), (wide.remote, narrow.remote)):
        if party is not None and (
            inner is None
            or inner.addresses - party.addresses
            or (inner.members.hardware - party.members.hardware and not (party is wide.local and everybody))
            or inner.members.names - party.members.names
        ):
            return False
    if wide.protocols and not (narrow.protocols and set(narrow.protocols) <= set(wide.protocols)):
        return False
    if wide.services is not None and wide.services != narrow.services:
        return False
    if (wide.ports and wide.ports != narrow.ports) or (wide.transports and wide.transports != narrow.transports):
        return False
    always = wide.when in (None, narrow.when) and wide.threshold in (None, narrow.threshold) and wide.quota is None
    return always and wide.enabled and wide.uplink in (None, narrow.uplink)


def _two(plan: Plan, one: Limiter, other: Limiter) -> Iterator[Told]:
    for loose, tight in ((one, other), (other, one)):
        caps = caps_of(loose)
        if not caps or not loose.enabled or "mark" in (loose.excess, tight.excess) or not _covers(plan, tight, loose):
            continue
        alone = tight.per.whom in ("host", "address") and loose.local is not None and loose.local.is_one_host
        if tight.per.whom != "together" and tight.per != loose.per and not alone:
            continue
        if all((rate := tight.rate(way)) is not None and rate <= cap for way, cap in caps.items()):
            whom = "together" if tight.per.whom == "together" else f"for each {tight.per.whom}"
            message = f"has no effect: {tight.name} already limits the same hosts to this rate or less, {whom}"
            location = ("limiters", loose.name)
            yield Told(location, message, f"lower it, or remove it or {tight.name}", (Remove(location),))
            return


KIND = Kind(
    "limiter-redundant",
    "warning",
    find,
    story="""\
All limiters that match apply, so the tighter one decides. This one never does.
""",
    has="""\
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s}
  slower: {local: 198.51.100.9, per: host, down: 3 Mbit/s}
""",
    lacks="""\
limiters:
  visitors: {local: guests, per: host, down: 2 Mbit/s}
  slower: {local: 198.51.100.9, per: host, down: 1 Mbit/s}
""",
)
