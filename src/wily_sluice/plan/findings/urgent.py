"""Findings about the most urgent traffic: whether it can use the uplink, and whether it should be urgent."""

from collections.abc import Iterator

from wily_sluice.plan.findings.capacity import starved_by
from wily_sluice.plan.findings.finding import queue_location
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import Network, Queue, Rule, Tree
from wily_sluice.plan.terms import Terms
from wily_sluice.units import DIRECTIONS, Rate, format_rate


def urgent(tree: Tree) -> set[str]:
    """The paths of the leaves that go first: below the children of the earliest priority, if the default is not one of
    them; below a curve parent, those with the shortest delay.
    """
    first = _first(tree.queues, tree.discipline == "curve")
    return set() if any(leaf.default for leaf in first) else {leaf.path for leaf in first}


def _first(queues: tuple[Queue, ...], curve: bool) -> list[Queue]:
    if curve:
        delays = [queue.leaf.delay for queue in queues if queue.leaf.delay is not None]
        chosen = [queue for queue in queues if delays and queue.leaf.delay == min(delays)]
    else:
        first = min((queue.priority for queue in queues), default=0)
        chosen = [queue for queue in queues if queue.priority == first]
    if len(chosen) == len(queues):
        return []
    leading: list[Queue] = []
    for queue in chosen:
        leaves = [leaf for leaf in queue.walk() if not leaf.children]
        leading += (_first(queue.children, queue.discipline == "curve") or leaves) if queue.children else leaves
    return leading


def urgent_rules(checked: Checked) -> Iterator[tuple[Rule, Terms, str]]:
    """The rules that put something into an urgent queue, with each of their terms and the queue."""
    first = {name: urgent(tree) for name, tree in checked.plan.trees.items()}
    for rule in checked.plan.sorting:
        path = next((path for name, path in rule.queues.items() if path in first[name]), None)
        if path is not None:
            yield rule, rule.terms, path


def limits_itself(terms: Terms) -> bool:
    """Whether a rule asks for something that bulk is not: small packets, little moved, a shape, no great rate."""
    return any(
        part.moved or part.rate or part.kinds or "length" in part.asked or "dscp" in part.asked for part in terms.walk()
    )


NEARLY = 1.05  # times the guarantee


@kind(
    "urgent-capped",
    "warning",
    once=True,
    story="""\
A cap holds even on an idle uplink. In the most urgent queue that is rarely intended: a second call, or a video
call, is squeezed although there is free capacity. A guarantee alone already reserves the rate.
""",
    has="""\
trees:
  main:
    queues:
      calls: {cap: 20%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 40%}
""",
)
def urgent_capped(checked: Checked) -> Iterator[Told]:
    """An urgent queue that cannot use more than it is guaranteed, however idle the line is."""
    for tree, uplink, way, root in checked.uses:
        first = urgent(tree)
        for leaf in root.leaves():
            if leaf.path in first and leaf.guarantee and leaf.cap <= leaf.guarantee * NEARLY < root.cap:
                message = (
                    f"goes first, but can never have more than its {format_rate(leaf.guarantee)} {way}, "
                    f"even if all {format_rate(root.cap)} of {uplink.name} are idle"
                )
                yield Told((*queue_location(tree.name, leaf.path), "cap"), message, "raise the cap or remove it")


BULK = ("files", "streaming", "swarms", "updates")


@kind(
    "bulk-urgent",
    "warning",
    story="""\
The most urgent traffic should be small and steady. A transfer takes all the capacity it can get: in the first queue
it fills the uplink, and calls in the same queue wait for it.
""",
    has="""\
rules:
  - {service: [calls, updates], queue: calls}
""",
    lacks="""\
rules:
  - {service: [calls, meetings], queue: calls}
""",
)
def bulk_urgent(checked: Checked) -> Iterator[Told]:
    """Bulk traffic in the queue that goes first."""
    for rule, terms, path in urgent_rules(checked):
        bulk = [service.category for service in terms.services or () if service.category in BULK]
        if bulk and not limits_itself(terms):
            message = f"puts {bulk[0]} into {path}, which goes first: one transfer then delays everything else in it"
            yield Told(("rules", rule.index, "service"), message, "choose a queue of a later priority")


TUNNELS = {47, 50, 51}  # GRE, ESP, AH


@kind(
    "tunnel-urgent",
    "warning",
    story="""\
Inside a tunnel, a call and a download look the same. If the tunnel goes first, the download does. Give tunnels a
queue with a guarantee, or let the inside mark calls (`dscp: EF`) and send only these first.
""",
    has="""\
rules:
  - {service: [calls, tunnels], queue: calls}
""",
    lacks="""\
rules:
  - {service: tunnels, dscp: EF, queue: calls}
""",
)
def tunnel_urgent(checked: Checked) -> Iterator[Told]:
    """A tunnel in the most urgent queue: the gate cannot see its contents."""
    for rule, terms, path in urgent_rules(checked):
        named = any(service.category == "tunnels" for service in terms.services or ())
        if (named or set(terms.protocols or ()) & TUNNELS) and not limits_itself(terms):
            message = f"puts a tunnel into {path}, which goes first: a download within it then goes first too"
            yield Told(("rules", rule.index), message, "give tunnels their own queue with a guarantee")


MOST = 0.5  # of the line: a queue that is capped at that does little harm


def _takes_the_line(tree: Tree, rule: Rule) -> bool:
    """Whether some direction of the rule's queue is capped at more than a half, or not at all."""
    queue = next((queue for queue in tree.walk() if queue.path == rule.queues.get(tree.name)), None)
    if queue is None or queue.leaf.delay is not None:
        return False
    caps = [queue.cap.of(way) for way in DIRECTIONS]
    return any(cap is None or (cap.share or 0) > MOST for cap in caps)


@kind(
    "host-urgent",
    "warning",
    story="""\
A device for play or work also downloads updates, pages and films. If all of its traffic is urgent, these are too,
and the other hosts wait. Name the urgent service, or cap the queue so that the rest always has room.
""",
    has="""\
rules:
  - {local: 192.0.2.40, queue: calls}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {cap: 40%}
rules:
  - {local: 192.0.2.40, queue: calls}
""",
)
def host_urgent(checked: Checked) -> Iterator[Told]:
    """A whole computer in the queue that goes first, with everything that it does."""
    for rule, terms, path in urgent_rules(checked):
        alone = set(terms.asked) <= {"local", "network", "uplink", "when", "version"} and terms.asked
        if not alone or terms.any or terms.all or limits_itself(terms):
            continue
        if any(_takes_the_line(tree, rule) for tree in checked.plan.trees.values()):
            message = f"puts all that these hosts do into {path}, which goes first: their updates and downloads too"
            yield Told(("rules", rule.index), message, "name the urgent service (`service: calls`), or cap the queue")


def _limited(checked: Checked, network: Network) -> bool:
    """Whether a limiter caps each host of a network, and the network alone."""
    return any(
        limiter.enabled
        and limiter.per.whom in ("host", "address")
        and limiter.hosts is not None
        and not network.addresses - limiter.hosts.addresses
        and not limiter.hosts.addresses - network.addresses
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


def _background(tree: Tree, path: str) -> tuple[Queue, ...]:
    """The queues of one parent, a leaf among them."""
    queues, level = tree.queues, tree.queues
    for name in path.split("/"):
        level = queues
        queues = next(queue.children for queue in queues if queue.name == name)
    return level


@kind(
    "guests-first",
    "warning",
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
def guests_first(checked: Checked) -> Iterator[Told]:
    """Guests with a better priority than hosts without a limit."""
    guests = [network for network in checked.plan.networks if _limited(checked, network)]
    if not guests or len(guests) == len(checked.plan.networks):
        return
    for tree in checked.plan.trees.values():
        own = {path for path, network in _leaves_of(checked, tree, guests)}
        small = {path for path, services in _small(checked, tree) if services}
        for path, network in _leaves_of(checked, tree, guests):
            beside = _background(tree, path)
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


CATEGORY = "names-and-time"


@kind(
    "names-starve",
    "warning",
    once=True,
    story="""\
Pages, calls and games begin with a DNS query. If DNS waits, everything seems broken, and a clock that cannot be set
breaks sign-ins. Names and time need very little, so guarantee it.
""",
    has="""\
trees:
  main:
    queues:
      base: {priority: 8}
rules:
  - {service: calls, queue: calls}
  - {service: names-and-time, queue: base}
""",
    lacks="""\
trees:
  main:
    queues:
      base: {priority: 8, guarantee: 1%}
rules:
  - {service: calls, queue: calls}
  - {service: names-and-time, queue: base}
""",
)
def names_starve(checked: Checked) -> Iterator[Told]:
    """Names and time in a queue that may get nothing."""
    rule = next(
        (
            rule
            for rule in checked.plan.sorting
            if any(service.category == CATEGORY for service in rule.terms.services or ())
        ),
        None,
    )
    for tree, _, way, root in checked.uses if rule is not None else ():
        path = rule.queues.get(tree.name) if rule is not None else None
        default = any(leaf.default for leaf in tree.leaves if leaf.path == path)
        if path is not None and not default and (first := starved_by(root, path)):
            message = f"carries names and time, and can starve {way}: {first} can take everything first"
            yield Told(queue_location(tree.name, path), message, "add a guarantee, such as 1%")


CALL: Rate = 87_200  # bit/s: 50 packets a second of 200 bytes, with 18 of Ethernet


@kind(
    "guarantee-below-call",
    "warning",
    once=True,
    story="""\
A call sends 50 packets a second each way, about 87 kbit/s with headers. If its queue is guaranteed less, the call
breaks up as soon as the line is full.
""",
    has="""\
trees:
  main:
    queues:
      calls: {guarantee: 0.5%}
""",
    lacks="""\
trees:
  main:
    queues:
      calls: {guarantee: 1%}
""",
)
def guarantee_below_call(checked: Checked) -> Iterator[Told]:
    """A guarantee for calls that is less than one call."""
    fed = {
        (name, path)
        for rule in checked.plan.sorting
        if any(service.category == "calls" for service in rule.terms.services or ())
        for name, path in rule.queues.items()
    }
    for tree, uplink, way, root in checked.uses:
        for leaf in root.leaves():
            if (tree.name, leaf.path) in fed and 0 < leaf.guarantee < CALL:
                message = (
                    f"{format_rate(leaf.guarantee)} of {uplink.name} {way} is less than one call, "
                    f"which takes {format_rate(CALL)}"
                )
                location = (*queue_location(tree.name, leaf.path), "guarantee")
                yield Told(location, message, f"guarantee {format_rate(CALL)} for each call that must get through")
