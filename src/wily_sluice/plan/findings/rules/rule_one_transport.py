"""A rule for a port over TCP or UDP alone, where the service behind it uses both."""

from collections.abc import Iterator
from functools import cache

from wily_sluice.plan.file.traffic_words import protocol_text
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rules.web import named_ports
from wily_sluice.plan.groups.services import shipped_services
from wily_sluice.plan.model import Plan

TCP, UDP = 6, 17
MOST_PORTS = 100  # of a range that counts as ports of one service


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule, unless another sorts the other transport into the same queue."""
    shared, over = _both_transports(), _named(checked.plan)
    for rule in checked.plan.sorting:
        ports = named_ports(rule.terms)
        if not ports or rule.terms.protocols not in ((TCP,), (UDP,)):
            continue
        wanted = UDP if rule.terms.protocols == (TCP,) else TCP
        for port, service in sorted(shared.items()):
            if any(port in over.get((queue, wanted), ()) for queue in rule.queues.values()):
                continue
            if any(first <= port <= last for first, last in ports):
                own, other = protocol_text(rule.terms.protocols), protocol_text((wanted,))
                message = f"covers {own} only, but {service} also uses port {port} over {other}"
                remedy = f"remove “protocol”, or write `service: {service}`"
                yield Told(("rules", rule.index, "protocol"), message, remedy)
                break


@cache
def _both_transports() -> dict[int, str]:
    """Ports that a service uses over both TCP and UDP, and its name."""
    found: dict[int, str] = {}
    for service in shipped_services().values():
        if service.shape:
            continue
        by_protocol: dict[int, set[int]] = {}
        for protocol, (first, last) in service.ports:
            if last - first < MOST_PORTS:
                by_protocol.setdefault(protocol, set()).update(range(first, last + 1))
        for port in by_protocol.get(TCP, set()) & by_protocol.get(UDP, set()):
            found.setdefault(port, service.name)
    return found


def _named(plan: Plan) -> dict[tuple[str, int], set[int]]:
    """The ports of such services that rules name, by queue and protocol."""
    found: dict[tuple[str, int], set[int]] = {}
    shared = _both_transports()
    for rule in plan.sorting:
        named = {port for first, last in named_ports(rule.terms) for port in shared if first <= port <= last}
        for protocol in (TCP, UDP):
            if rule.terms.protocols is None or protocol in rule.terms.protocols:
                for queue in rule.queues.values():
                    found.setdefault((queue, protocol), set()).update(named)
    return found


KIND = Kind(
    "rule-one-transport",
    "warning",
    find,
    whole=True,
    story="""\
Many services use one port over both TCP and UDP: DNS does, and so do calls and most pages. A rule for one transport
misses the other.
""",
    has="""\
rules:
  - {protocol: udp, port: 5060, queue: calls}
""",
    lacks="""\
rules:
  - {port: 5060, queue: calls}
""",
)
