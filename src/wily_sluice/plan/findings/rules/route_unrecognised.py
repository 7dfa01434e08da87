"""Routes that need the protocol of a conversation, which is unknown when it opens."""

from collections.abc import Iterator

from wily_sluice.plan.asking import Service
from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(checked: Checked) -> Iterator[Told]:
    """Each route whose services have no sign that is there at a first packet."""
    opened = {grant.service for grant in checked.plan.granting}
    for route in checked.plan.routing:
        services = [service for terms in route.terms.walk() if terms.services for service in terms.services]
        if services and not any(_early(service) or service.name in opened for service in services):
            names = " and ".join(dict.fromkeys(word for terms in route.terms.walk() for word in terms.service_words))
            message = f"{names} is recognised only by its protocol, which is unknown when a conversation is routed"
            yield Told(("routes", route.index), message, "give the service ports, names or addresses")


def _early(service: Service) -> bool:
    """Whether it has a sign that is there when a conversation opens."""
    return bool(service.ports or service.names or service.remote) and not service.shape


KIND = Kind(
    "route-unrecognised",
    "warning",
    find,
    story="""\
A conversation gets its uplink with the first packet and keeps it. Its protocol and behaviour are not known by then,
so a route that depends on them alone never applies. Ports, names and addresses of remotes are known in time.
""",
    has="""\
services:
  chat: {seen: rtp}
routes:
  - {service: chat, uplink: line}
""",
    lacks="""\
services:
  chat: {seen: rtp, ports: [41100/udp]}
routes:
  - {service: chat, uplink: line}
""",
)
