"""The kinds of finding that are met while a file is read, before there is a plan to look at."""

from collections.abc import Iterator
from typing import Final

from wily_sluice.plan.findings.kind import Checked, Kind, Told


def find(_: Checked) -> Iterator[Told]:
    """None: the code that reads the file reports them."""
    yield from ()


FORMS: Final[tuple[Kind, ...]] = (
    Kind(
        "unreadable",
        "error",
        find,
        story="""\
The file cannot be read as YAML: it is missing, empty, too large, not text, or its brackets, quotes or indentation do
not match.
""",
        has="uplinks: {line: {interface: wan0",
        lacks="uplinks: {line: {interface: wan0}}",
    ),
    Kind(
        "unknown-key",
        "error",
        find,
        story="""\
A key that does not exist is refused, not ignored: a misspelt key would otherwise be a limit that silently never
applies.
""",
        has="uplinks:\n  line: {headrom: 8%}",
        lacks="uplinks:\n  line: {headroom: 8%}",
    ),
    Kind(
        "missing-key",
        "error",
        find,
        story="""\
A part of the plan lacks a required key, such as the interface of an uplink.
""",
        has="uplinks:\n  spare: {down: 8 Mbit/s, up: 2 Mbit/s}",
        lacks="uplinks:\n  spare: {interface: wan1, down: 8 Mbit/s, up: 2 Mbit/s}",
    ),
    Kind(
        "bad-value",
        "error",
        find,
        story="""\
A value is not what its key can have: a rate without a unit, a priority out of range, a time that does not exist. The
message shows how to write it.
""",
        has="uplinks:\n  line: {up: 10}",
        lacks="uplinks:\n  line: {up: 10 Mbit/s}",
    ),
    Kind(
        "unknown-name",
        "error",
        find,
        story="""\
The plan names a queue, group, network, uplink, schedule, service or tree that it does not define.
""",
        has="rules:\n  - {service: calls, queue: cals}",
        lacks="rules:\n  - {service: calls, queue: calls}",
    ),
    Kind(
        "does-not-fit",
        "error",
        find,
        story="""\
Each value is valid, but two contradict each other, or a file that the plan names cannot be used.
""",
        has="trees:\n  main:\n    queues:\n      rest: {discipline: strict}",
        lacks="trees:\n  main:\n    discipline: weighted",
    ),
    Kind(
        "exception-unused",
        "warning",
        find,
        story="""\
An exception removes members from a group. This one is not a member, so it removes nothing.
""",
        has="""\
groups:
  staff: {members: [192.0.2.0/28], except: [192.0.2.99]}
limiters:
  all: {local: staff, down: 5 Mbit/s}
""",
        lacks="""\
groups:
  staff: {members: [192.0.2.0/28], except: [192.0.2.9]}
limiters:
  all: {local: staff, down: 5 Mbit/s}
""",
    ),
    Kind(
        "group-empty",
        "warning",
        find,
        story="""\
A group without members matches no host, so the rules and limiters that name it have no effect.
""",
        has="""\
groups:
  staff: {members: [203.0.113.9], except: [203.0.113.9]}
limiters:
  all: {remote: staff, down: 5 Mbit/s}
""",
        lacks="groups:\n  staff: [203.0.113.9]\nlimiters:\n  all: {remote: staff, down: 5 Mbit/s}",
    ),
    Kind(
        "member-twice",
        "warning",
        find,
        story="""\
An address is in the group twice. That does no harm, but one of the two is often a typing mistake.
""",
        has="groups:\n  staff: [192.0.2.0/28, 192.0.2.7]\nlimiters:\n  all: {local: staff, down: 5 Mbit/s}",
        lacks="groups:\n  staff: [192.0.2.0/28, 192.0.2.70]\nlimiters:\n  all: {local: staff, down: 5 Mbit/s}",
    ),
    Kind(
        "allowance",
        "warning",
        find,
        story="""\
A comment `# sluice: allow CODE reason` silences a warning that you accept. It must name a warning that is there, and
say why: the next person to read the plan will ask.
""",
        has="uplinks:\n  line: {headroom: 5%}    # sluice: allow little-headroom measured at the modem",
        lacks="uplinks:\n  line: {headroom: 1%}    # sluice: allow little-headroom measured at the modem",
    ),
)
