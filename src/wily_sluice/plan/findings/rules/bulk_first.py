"""A rule that gives the web a high priority without an earlier rule for bulk on these ports, so that downloads get it
too.
"""

from collections.abc import Iterator

from wily_sluice.plan.asking import Terms
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rules.web import named_ports
from wily_sluice.plan.model import Plan, Rule

WEB_PORTS = (80, 443)
MOST_PORTS = 1000  # of a range that counts as ports of the web


def find(checked: Checked) -> Iterator[Told]:
    """Each such rule."""
    apart: set[int] = set()  # ports of the web of which a rule above takes the bulk
    for rule in checked.plan.sorting:
        ports = _web_ports(rule.terms)
        if not ports <= apart:
            yield from _web_first(checked.plan, rule, sorted(ports - apart))
        if _limits_bulk(rule.terms):
            apart |= set(WEB_PORTS) if rule.terms.services or not named_ports(rule.terms) else ports


def _web_ports(terms: Terms) -> set[int]:
    """Which of the ports of the web some terms ask for."""
    if any(service.category == "web" for service in terms.services or ()):
        return set(WEB_PORTS)
    spans = [(first, last) for first, last in named_ports(terms) if last - first < MOST_PORTS]
    return {port for port in WEB_PORTS if any(first <= port <= last for first, last in spans)}


def _limits_bulk(terms: Terms) -> bool:
    return any(
        part.moved or part.rate or any(service.shape for service in part.services or ()) for part in terms.walk()
    )


def _web_first(plan: Plan, rule: Rule, ports: list[int]) -> Iterator[Told]:
    if _limits_bulk(rule.terms) or rule.terms.kinds:
        return
    for name, path in rule.queues.items():
        tree = plan.trees[name]
        queues = {queue.path: queue for queue in tree.walk()}
        top, default = queues[path.partition("/")[0]], queues[tree.default.path.partition("/")[0]]
        if tree.discipline != "curve" and top.priority < default.priority:
            named = f"[{', '.join(map(str, ports))}]" if len(ports) > 1 else str(ports[0])
            service = "service: web" if rule.terms.services else f"port: {named}"
            message = f"also lets downloads go first: they use the same ports, and {path} has priority {top.priority}"
            remedy = f"put {{{service}, moved: over 20 MB, queue: {tree.default.path}}} above it"
            yield Told(("rules", rule.index), message, remedy)
            return


KIND = Kind(
    "bulk-first",
    "warning",
    find,
    whole=True,
    story="""\
Pages and huge downloads use the same ports. If the web goes first, so does the download of a system update, and it
takes everything. Send conversations that have moved a lot elsewhere, in a rule above.
""",
    has="""\
trees:
  main:
    queues:
      web: {guarantee: 30%, priority: 2}
rules:
  - {service: calls, queue: calls}
  - {port: [80, 443], queue: web}
""",
    lacks="""\
trees:
  main:
    queues:
      web: {guarantee: 30%, priority: 2}
rules:
  - {service: calls, queue: calls}
  - {port: [80, 443], moved: over 20 MB, queue: rest}
  - {port: [80, 443], queue: web}
""",
)
