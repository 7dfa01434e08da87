"""An uplink that was not measured: its rate is the assumed share of the advertised one."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.model import UNMEASURED
from wily_sluice.units import DIRECTIONS, format_rate, format_share


def find(checked: Checked) -> Iterator[Told]:
    """Each direction of an uplink whose rates are all the assumed share of the advertised ones. A single one may be
    a coincidence.
    """
    for uplink in checked.plan.uplinks:
        advertised = {way: rate for way in DIRECTIONS if (rate := uplink.advertised.of(way)) is not None}
        if all(uplink.measured(way) == round(rate * UNMEASURED) for way, rate in advertised.items()):
            for way in advertised:
                message = (
                    f"{format_rate(uplink.measured(way))} {way} is {format_share(UNMEASURED)} of the advertised rate, "
                    "a guess: priorities only work at the rate that the line really has"
                )
                yield Told(("uplinks", uplink.name, way), message, "measure the line when it is quiet, and write that")


KIND = Kind(
    "uplink-unmeasured",
    "note",
    find,
    story="""\
Priorities and guarantees only work if packets queue in the gate. If the line is slower than the plan says, they
queue in the modem, first come, first served. 85% of the advertised rate is a cautious guess until you measure.
""",
    has="""\
uplinks:
  line: {down: 85 Mbit/s, advertised: {down: 100 Mbit/s}}
""",
    lacks="""\
uplinks:
  line: {down: 88 Mbit/s, advertised: {down: 100 Mbit/s}}
""",
)
