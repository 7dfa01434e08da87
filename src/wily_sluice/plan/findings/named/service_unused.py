"""A service of the plan that no rule and no limiter names."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each such service, where its category is not named either."""
    plan, content = checked.plan, checked.reading.content
    called = {word for part in plan.asking for terms in part.terms.walk() for word in terms.service_words}
    called |= {word for limiter in plan.limiters for word in limiter.service_words}
    for service in plan.services.values():
        written = content is not None and service.own and service.name in content.services
        if written and not {service.name, service.category} & called:
            yield Told(("services", service.name), "is not used", "use it in a rule or remove it")


KIND = Kind(
    "service-unused",
    "warning",
    find,
    whole=True,
    story="""\
No rule or limiter names this service or its category, so it only appears in statistics.
""",
    has="""\
services:
  league: {ports: [41100-41120/udp]}
""",
    lacks="""\
services:
  league: {ports: [41100-41120/udp]}
rules:
  - {service: league, queue: calls}
""",
)
