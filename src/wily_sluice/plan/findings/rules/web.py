"""Ports that rules name."""

from wily_sluice.plan.asking import Terms


def named_ports(terms: Terms) -> tuple[tuple[int, int], ...]:
    """Ports of either side, or else of the far side."""
    return terms.ports or terms.remote_ports or ()
