"""Guests with a better priority than hosts without a limit."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.trees.location import queue_location
from wily_sluice.plan.model import Network, Queue, Tree


def find(checked: Checked) -> Iterator[Told]:
    """Each leaf for guests alone with a better priority than a sibling that other hosts use."""
    guests = [network for network in checked.plan.networks if _limited(checked, network)]
    if not guests or len(guests) == len(checked.plan.networks):
        return
    for tree in checked.plan.trees.values():
        own = {path for path, network in _leaves_of(checked, tree, guests)}
        small = {path for path, services in _small(checked, tree) if services}
        for path, network in _leaves_of(checked, tree, guests):
            beside = _beside(tree, path)
            mine = next(queue for queue in beside if queue.path == path)
            later = [
                queue.path
                for queue in beside
                if queue.priority > mine.priority and queue.path not in own and queue.path not in small
            ]
            if later:
                behind = f"a better priority than {' and '.join(later)}"
                message = f"has {behind}, though only {network.name} uses it, and its hosts are limited"
                most = max(queue.priority for queue in beside)
                yield Told((*queue_location(tree.name, path), "priority"), message, f"use priority {min(9, most + 1)}")


def _limited(checked: Checked, network: Network) -> bool:
    """Whether a limiter caps each host of a network, and the network alone."""
    return any(
        limiter.enabled
        and limiter.per.whom in ("host", "address")
        and limiter.local is not None
        and not network.addresses - limiter.local.addresses
        and not limiter.local.addresses - network.addresses
        for limiter in checked.plan.limiters
    )


def _leaves_of(checked: Checked, tree: Tree, guests: list[Network]) -> Iterator[tuple[str, Network]]:
    """Leaves that rules reach for one such network only, one of the rules for all its traffic."""
    reached: dict[str, set[str]] = {}
    whole: set[str] = set()
    for rule in checked.plan.sorting:
        if path := rule.queues.get(tree.name):
            party = rule.terms.networks or rule.terms.local
            names = [
                network.name for network in guests if party is not None and not party.addresses - network.addresses
            ]
            reached.setdefault(path, set()).add(names[0] if names else "")
            terms = rule.terms
            if set(terms.asked) <= {"network", "local", "when"} and not (terms.any or terms.all or terms.none):
                whole.add(path)
    for leaf in tree.leaves:
        names_of = reached.get(leaf.path, {""})
        if len(names_of) == 1 and "" not in names_of and leaf.path in whole:
            yield leaf.path, next(network for network in guests if network.name in names_of)


def _small(checked: Checked, tree: Tree) -> Iterator[tuple[str, bool]]:
    """Leaves of one host or one port: a backup that may well come last."""
    for rule in checked.plan.sorting:
        path = rule.queues.get(tree.name)
        if path is not None:
            yield path, rule.terms.local is not None and rule.terms.services is None


def _beside(tree: Tree, path: str) -> tuple[Queue, ...]:
    """The queues of one parent, a leaf among them."""
    queues, found = tree.queues, tree.queues
    for name in path.split("/"):
        found = queues
        queues = next(queue.children for queue in queues if queue.name == name)
    return found


KIND = Kind(
    "guests-first",
    "warning",
    find,
    whole=True,
    once=True,
    story="""\
A network with limited hosts is a guest network. If its queue has a better priority than one of your own queues,
guests take the uplink whenever their limiter does not apply, and your hosts wait. Put guests last, with a guarantee
of a few percent.
""",
    has="""\
limiters:
  each: {local: guests, per: host, down: 5 Mbit/s, up: 1 Mbit/s}
trees:
  main:
    queues:
      visitors: {guarantee: 3%}
      films: {guarantee: 20%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {network: guests, queue: visitors}
  - {service: streaming, queue: films}
""",
    lacks="""\
limiters:
  each: {local: guests, per: host, down: 5 Mbit/s, up: 1 Mbit/s}
trees:
  main:
    queues:
      visitors: {guarantee: 3%, priority: 9}
      films: {guarantee: 20%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {network: guests, queue: visitors}
  - {service: streaming, queue: films}
""",
)
