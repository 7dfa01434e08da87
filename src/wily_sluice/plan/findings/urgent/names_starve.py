"""Names and time in a queue that may get nothing."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.default_starves import starved_by
from wily_sluice.plan.findings.trees.location import queue_location

CATEGORY = "names-and-time"


def find(checked: Checked) -> Iterator[Told]:
    """The queue of the first rule for names and time, in each tree as it is used; the default has its own finding."""
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


KIND = Kind(
    "names-starve",
    "warning",
    find,
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
