"""A tunnel in the most urgent queue: the gate cannot see its contents."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Kind, Told
from wily_sluice.plan.findings.urgent.first import limits_itself, urgent_rules

TUNNELS = {47, 50, 51}  # GRE, ESP, AH


def find(checked: Checked) -> Iterator[Told]:
    """Each rule that puts a tunnel there."""
    for rule, terms, path in urgent_rules(checked):
        named = any(service.category == "tunnels" for service in terms.services or ())
        if (named or set(terms.protocols or ()) & TUNNELS) and not limits_itself(terms):
            message = f"puts a tunnel into {path}, which goes first: a download within it then goes first too"
            yield Told(("rules", rule.index), message, "give tunnels their own queue with a guarantee")


KIND = Kind(
    "tunnel-urgent",
    "warning",
    find,
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
