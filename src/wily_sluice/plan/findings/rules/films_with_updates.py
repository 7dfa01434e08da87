"""Films in a queue with updates or swarms, less urgent than the default."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told

FILMS = "streaming"
BEHIND = ("updates", "swarms")


def find(checked: Checked) -> Iterator[Told]:
    """Each rule that sends films to such a leaf."""
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


KIND = Kind(
    "films-with-updates",
    "warning",
    find,
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
