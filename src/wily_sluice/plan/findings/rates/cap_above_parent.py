"""A cap that is more than the parent may have."""

from collections.abc import Iterator

from wily_sluice.plan.edit.operations import Remove, at
from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.rates.level import levels
from wily_sluice.units import format_rate_both


def find(checked: Checked) -> Iterator[Told]:
    """Each cap that is written as a rate."""
    for level in levels(checked):
        for queue in level.queues:
            cap = queue.cap.of(level.direction)
            if cap is not None and cap.rate is not None and cap.rate > level.cap:
                message = f"{format_rate_both(cap.rate)} {level.direction} is more than {level.name} can have"
                location = level.at(queue, "cap")
                written = at(checked.document.data, location)  # where it is one for both directions, one may need it
                apart = isinstance(written, dict) and level.direction in written
                fix = (Remove((*location, level.direction) if len(written) > 1 else location),) if apart else ()
                yield Told(location, message, f"at most {format_rate_both(level.cap)}", fix)


KIND = Kind(
    "cap-above-parent",
    "warning",
    find,
    once=True,
    story="""\
A queue never gets more than its parent, so a cap above the parent's rate has no effect. Perhaps a rate was copied
from another line.
""",
    has="""\
trees:
  main:
    queues:
      rest: {cap: {up: 12 Mbit/s}}
""",
    lacks="""\
trees:
  main:
    queues:
      rest: {cap: {up: 9 Mbit/s}}
""",
)
