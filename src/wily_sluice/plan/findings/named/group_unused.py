"""A group that nothing names."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each such group."""
    plan, content = checked.plan, checked.reading.content
    if content is None:
        return
    asked = [terms for part in plan.asking for terms in part.terms.walk()]
    parties = [party for limiter in plan.limiters for party in (limiter.local, limiter.remote)]
    parties += [*(grant.local for grant in plan.grants), plan.steady]
    parties += [party for terms in asked for party in (terms.local, terms.remote)]
    named = {word for party in parties if party is not None for word in party.words}
    named |= {word for entry in content.groups.values() for word in (*entry.members, *entry.except_)}
    named |= {word for service in content.services.values() for word in service.remote or ()}
    rules = [terms for part in (*content.rules, *content.routes) if part for terms in part.walk()]
    ports = [terms.said(key) for terms in rules for key in ("port", "local-port", "remote-port")]
    ports += [limiter.port for limiter in content.limiters.values()]
    ports += [mapping.port for mapping in content.mappings if mapping]
    named |= {word for words in ports if words for word in words if isinstance(word, str)}
    for group in plan.groups:
        if group not in named:
            yield Told(("groups", group), "is not used", "use it or remove it")


KIND = Kind(
    "group-unused",
    "warning",
    find,
    whole=True,
    story="""\
No rule, limiter, service or other group names this group. Perhaps a reference is missing, or the group is left
over.
""",
    has="""\
groups:
  printers: [192.0.2.60]
""",
    lacks="""\
groups:
  printers: [192.0.2.60]
limiters:
  printing: {local: printers, up: 1 Mbit/s}
""",
)
