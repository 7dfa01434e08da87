"""Findings about rules: order and gaps."""

from collections.abc import Callable, Iterator, Sequence

from wily_sluice.engine.classify.classifier import MOST_LENGTHS
from wily_sluice.engine.conversations.watch import MOST_RATES
from wily_sluice.plan.edit.operations import Remove
from wily_sluice.plan.file.traffic_words import dscp_text
from wily_sluice.plan.findings.kind import Checked, Told, kind
from wily_sluice.plan.model import Plan, Route, Rule
from wily_sluice.plan.terms import Terms
from wily_sluice.units import Nanoseconds, Rate, Size


def named_ports(terms: Terms) -> tuple[tuple[int, int], ...]:
    """Ports of either side, or else of the far side."""
    return terms.ports or terms.remote_ports or ()


@kind(
    "queue-not-in-tree",
    "warning",
    story="""\
The uplinks have different trees, and one tree has no queue of this name. On that uplink the rule's traffic uses the
default leaf, which may surprise you on the day the main uplink fails.
""",
    has="""\
uplinks:
  line: {tree: main}
  spare: {interface: wan1, down: 8 Mbit/s, up: 2 Mbit/s, tree: small}
trees:
  small: {queues: {rest: {default: true}}}
""",
    lacks="""\
uplinks:
  line: {tree: main}
  spare: {interface: wan1, down: 8 Mbit/s, up: 2 Mbit/s, tree: small}
trees:
  small: {queues: {calls: {}, rest: {default: true}}}
""",
)
def queue_not_in_tree(checked: Checked) -> Iterator[Told]:
    """A rule whose queue one of the trees in use does not have."""
    plan = checked.plan
    for rule in plan.sorting:
        for tree in plan.trees.values():
            lines = [u.name for u in plan.uplinks if tree.name in (u.tree.up, u.tree.down)]
            missing = rule.queues and tree.name not in rule.queues
            if missing and lines and any(leaf.default for leaf in tree.leaves):
                message = (
                    f"tree {tree.name}, of {' and '.join(lines)}, has no such queue: {tree.default.path} is used there"
                )
                remedy = f"write {{…, {tree.name}: QUEUE}} for another one"
                yield Told(("rules", rule.index, "queue"), message, remedy)


@kind(
    "rule-contradictory",
    "warning",
    whole=True,
    story="""\
All conditions of a rule must hold together. These exclude each other, so nothing ever matches.
""",
    has="""\
rules:
  - {local: office, port: 5060, not: {local: office}, queue: calls}
""",
    lacks="""\
rules:
  - {local: office, port: 5060, not: {local: 192.0.2.9}, queue: calls}
""",
)
def rule_contradictory(checked: Checked) -> Iterator[Told]:
    """A rule whose terms exclude each other."""
    for rule, by in checked.out_of_reach:
        if not by:
            location = ("rules", rule.index)
            yield Told(location, "can never match: its conditions exclude each other", "take a part out")


@kind(
    "reach-unknown",
    "note",
    whole=True,
    story="""\
The check compares all combinations of a rule's conditions with those of earlier rules. This rule has too many
combinations: the check assumes that it matches something, and that it takes nothing from later rules.
""",
    has="""\
rules:
  - {service: calls, queue: calls}
  - all:
      - service: [calls, meetings, files, mail, remote-desks, management]
      - service: [calls, meetings, files, mail, remote-desks, management]
      - service: [calls, meetings, files, mail, remote-desks, management]
    queue: rest
""",
    lacks="""\
rules:
  - {service: calls, queue: calls}
  - service: [calls, meetings, files, mail, remote-desks, management]
    queue: rest
""",
)
def reach_unknown(checked: Checked) -> Iterator[Told]:
    """A rule with too many combinations of conditions to tell whether it can match."""
    for rule in checked.rules_reach[1]:
        message = "has too many combinations of conditions to tell whether it can match"
        yield Told(("rules", rule.index), message, "write it as several rules")


def repeats(rule: Rule, by: list[Rule]) -> bool:
    """Whether the one rule that takes all of another asks for the very same."""
    return len(by) == 1 and by[0].terms == rule.terms


@kind(
    "rule-repeated",
    "warning",
    whole=True,
    story="""\
The first rule that matches decides. A second one with the same conditions is never reached.
""",
    has="""\
rules:
  - {name: A, port: 5060, queue: calls}
  - {name: B, port: 5060, queue: rest}
""",
    lacks="""\
rules:
  - {name: A, port: 5060, queue: calls}
  - {name: B, port: 5061, queue: rest}
""",
)
def rule_repeated(checked: Checked) -> Iterator[Told]:
    """A rule with the same conditions as an earlier one."""
    for rule, by in checked.out_of_reach:
        if repeats(rule, by):
            same = by[0].queues == rule.queues and by[0].mark == rule.mark
            remedy = "remove one" if same else "remove one: the first decides"
            message = f"repeats {by[0].name} above it and is never reached"
            location = ("rules", rule.index)
            yield Told(location, message, remedy, (Remove(location),) if same else ())


MOST_NAMED = 3  # rules in one message


# What is known of a conversation only after its first packet, by the word for it; and which terms ask for it.
UNTIL: dict[str, Callable[[Terms], bool]] = {
    "its service": lambda part: bool(part.services),
    "its rate": lambda part: bool(part.rate),
    "how much it moves": lambda part: bool(part.moved),
    "its remote's name": lambda part: part.remote is not None and bool(part.remote.members.names),
    "its hardware address": lambda part: part.local is not None and bool(part.local.members.hardware),
}


def listed(by: Sequence[Rule | Route]) -> str:
    """The names of some that take all of another."""
    return ", ".join(rule.name for rule in by[:MOST_NAMED]) + (" and others" if len(by) > MOST_NAMED else "")


def unsure(terms: Terms) -> bool:
    """Whether what matches may change as a conversation goes on."""
    return any(asks(part) for part in terms.walk() for asks in UNTIL.values())


@kind(
    "rule-unreachable",
    "warning",
    whole=True,
    story="""\
The first matching rule decides. Earlier rules already match all the conversations of this rule, so it has no effect
here. Put exceptions ahead of the general case.
""",
    has="""\
rules:
  - {name: Office, local: office, queue: rest}
  - {name: Handset, local: 192.0.2.40, port: 5060, queue: calls}
""",
    lacks="""\
rules:
  - {name: Handset, local: 192.0.2.40, port: 5060, queue: calls}
  - {name: Office, local: office, queue: rest}
""",
)
def rule_unreachable(checked: Checked) -> Iterator[Told]:
    """A rule that no conversation reaches because earlier rules match them all.

    If names, services or volumes are involved, the message says “may”, because these change during a conversation.
    """
    for rule, by in checked.out_of_reach:
        if not by or repeats(rule, by):
            continue
        location = ("rules", rule.index)
        names = listed(by)
        if len(by) == 1 and by[0].terms.anyone:
            yield Told(location, f"is never reached: {names} above it matches everything", "move it up")
            continue
        until = [
            word for word, asks in UNTIL.items() if any(asks(part) for earlier in by for part in earlier.terms.walk())
        ]
        own = any(unsure(each.terms) for each in (rule, *by))
        never = "may never be reached" if own else "is never reached"
        takes = "matches everything that it would" if len(by) == 1 else "together match everything that it would"
        when = f", once {' and '.join(until)} {'are' if len(until) > 1 else 'is'} known" if until else ""
        yield Told(location, f"{never}: {names} above it {takes}{when}", "move it up or remove it")


WEB_PORTS = (80, 443)
MOST_PORTS = 1000  # of a range that counts as ports of the web


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
        if not any(leaf.default for leaf in tree.leaves):
            continue
        queues = {queue.path: queue for queue in tree.walk()}
        top, default = queues[path.partition("/")[0]], queues[tree.default.path.partition("/")[0]]
        if tree.discipline != "curve" and top.priority < default.priority:
            named = f"[{', '.join(map(str, ports))}]" if len(ports) > 1 else str(ports[0])
            service = "service: web" if rule.terms.services else f"port: {named}"
            message = f"also lets downloads go first: they use the same ports, and {path} has priority {top.priority}"
            remedy = f"put {{{service}, moved: over 20 MB, queue: {tree.default.path}}} above it"
            yield Told(("rules", rule.index), message, remedy)
            return


@kind(
    "bulk-first",
    "warning",
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
def bulk_first(checked: Checked) -> Iterator[Told]:
    """A rule that gives the web a high priority without an earlier rule for its downloads."""
    apart: set[int] = set()  # ports of the web of which a rule above takes the bulk
    for rule in checked.plan.sorting:
        ports = _web_ports(rule.terms)
        if not ports <= apart:
            yield from _web_first(checked.plan, rule, sorted(ports - apart))
        if _limits_bulk(rule.terms):
            apart |= set(WEB_PORTS) if rule.terms.services or not named_ports(rule.terms) else ports


FILMS = "streaming"
BEHIND = ("updates", "swarms")


@kind(
    "films-with-updates",
    "warning",
    once=True,
    story="""\
A film stalls if its next part comes late; an update may take all night. In one queue they take turns, and in a
queue less urgent than the default both wait for all other traffic. Send films to their own queue, or to the
default.
""",
    has="""\
trees:
  main:
    queues:
      later: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: later}
  - {service: updates, queue: later}
""",
    lacks="""\
trees:
  main:
    queues:
      later: {guarantee: 5%, priority: 8}
rules:
  - {service: calls, queue: calls}
  - {service: streaming, queue: rest}
  - {service: updates, queue: later}
""",
)
def films_with_updates(checked: Checked) -> Iterator[Told]:
    """Films in a queue with updates or swarms, less urgent than the default."""
    for tree in checked.plan.trees.values():
        priority = {leaf.path: leaf.priority for leaf in tree.leaves}
        default = next((leaf.priority for leaf in tree.leaves if leaf.default), 0)
        others: dict[str, str] = {}
        for rule, terms in checked.asked:
            for service in terms.services or ():
                if service.category in BEHIND and (path := rule.queues.get(tree.name)):
                    others.setdefault(path, service.category)
        for rule, terms in checked.asked:
            path = rule.queues.get(tree.name, "")
            films = any(service.category == FILMS for service in terms.services or ())
            if films and path in others and priority.get(path, 0) > default:
                message = f"films share {path} with {others[path]}, behind everything else: they will stall"
                yield Told(("rules", rule.index), message, "give films a queue that does not wait behind the default")


@kind(
    "too-many-rates",
    "error",
    story="""\
Each rate that a rule asks for is measured for every conversation. To keep the work per packet small, a plan can have
only a few different ones.
""",
    has="""\
rules:
  - {rate: over 1 Mbit/s for 10 s, queue: calls}
  - {rate: over 2 Mbit/s for 10 s, queue: calls}
  - {rate: over 3 Mbit/s for 10 s, queue: calls}
  - {rate: over 4 Mbit/s for 10 s, queue: calls}
  - {rate: over 5 Mbit/s for 10 s, queue: calls}
  - {rate: over 6 Mbit/s for 10 s, queue: calls}
  - {rate: over 7 Mbit/s for 10 s, queue: calls}
  - {rate: over 8 Mbit/s for 10 s, queue: calls}
  - {rate: over 9 Mbit/s for 10 s, queue: calls}
""",
    lacks="""\
rules:
  - {rate: over 1 Mbit/s for 10 s, queue: calls}
  - {rate: over 2 Mbit/s for 10 s, queue: calls}
  - {rate: over 3 Mbit/s for 10 s, queue: calls}
  - {rate: over 4 Mbit/s for 10 s, queue: calls}
  - {rate: over 5 Mbit/s for 10 s, queue: calls}
  - {rate: over 6 Mbit/s for 10 s, queue: calls}
  - {rate: over 7 Mbit/s for 10 s, queue: calls}
  - {rate: over 8 Mbit/s for 10 s, queue: calls}
""",
)
def too_many_rates(checked: Checked) -> Iterator[Told]:
    """More different rates in rules than each packet can be compared with."""
    met: set[tuple[Rate, Nanoseconds]] = set()
    for rule, terms in checked.asked:
        if terms.rate is not None and terms.rate not in met:
            met.add(terms.rate)
            if len(met) > MOST_RATES:
                message = f"is the {len(met)}th different rate in rules; the limit is {MOST_RATES}"
                yield Told(("rules", rule.index, "rate"), message, "use one of the others")


@kind(
    "too-many-lengths",
    "error",
    story="""\
Each length that a rule asks for is compared with every packet. To keep the work per packet small, a plan can have
only a few different ones.
""",
    has="""\
rules:
  - {length: up to 100 B, queue: calls}
  - {length: up to 200 B, queue: calls}
  - {length: up to 300 B, queue: calls}
  - {length: up to 400 B, queue: calls}
  - {length: up to 500 B, queue: calls}
  - {length: up to 600 B, queue: calls}
  - {length: up to 700 B, queue: calls}
  - {length: up to 800 B, queue: calls}
  - {length: up to 900 B, queue: calls}
""",
    lacks="""\
rules:
  - {length: up to 100 B, queue: calls}
  - {length: up to 200 B, queue: calls}
  - {length: up to 300 B, queue: calls}
  - {length: up to 400 B, queue: calls}
  - {length: up to 500 B, queue: calls}
  - {length: up to 600 B, queue: calls}
  - {length: up to 700 B, queue: calls}
  - {length: up to 800 B, queue: calls}
""",
)
def too_many_lengths(checked: Checked) -> Iterator[Told]:
    """More different lengths in rules than each packet can be compared with."""
    met: set[Size] = set()
    for rule, terms in checked.asked:
        length = terms.asked.get("length")
        if length is not None and length[0] not in met:
            met.add(length[0])
            if len(met) > MOST_LENGTHS:
                message = f"is the {len(met)}th different length in rules; the limit is {MOST_LENGTHS}"
                yield Told(("rules", rule.index, "length"), message, "use one of the others")


@kind(
    "mark-unheeded",
    "warning",
    story="""\
A mark (DSCP) is a request to routers further along the path. Most providers ignore or erase it. If yours acts on
it, say so at the uplink.
""",
    has="""\
rules:
  - {service: calls, queue: calls, mark: EF}
""",
    lacks="""\
uplinks:
  line: {honours-marks: true}
rules:
  - {service: calls, queue: calls, mark: EF}
""",
)
def mark_unheeded(checked: Checked) -> Iterator[Told]:
    """A mark that no uplink honours."""
    for rule in checked.plan.sorting:
        if rule.mark is None:
            continue
        lines = [u for u in checked.plan.uplinks if u.name in rule.terms.asked.get("uplink", (u.name,))]
        if lines and not any(uplink.honours_marks for uplink in lines):
            message = f"marks {dscp_text((rule.mark,))}, but no uplink has `honours-marks`"
            remedy = "ask the provider; then write `honours-marks: true` at the uplink, or remove the mark"
            yield Told(("rules", rule.index, "mark"), message, remedy)
