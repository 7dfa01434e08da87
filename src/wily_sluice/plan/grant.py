"""A grant: whose ports may be opened."""

from dataclasses import dataclass

from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.plan.terms import Party
from wily_sluice.units import Nanoseconds

TRANSPORTS = {TCP: "tcp", UDP: "udp"}  # those whose ports can be opened


@dataclass(frozen=True, slots=True)
class Grant:
    """Permission for hosts to open ports in these ranges, inside and outside: a number per host, and a lifetime.

    `ports` has ranges by protocol number. `uplink` is the uplink whose ports are opened; `service` the service of their
    traffic, or empty.
    """

    name: str
    index: int
    local: Party
    ports: dict[int, tuple[tuple[int, int], ...]]
    count: int
    lifetime: Nanoseconds
    uplink: str
    service: str = ""
    enabled: bool = True
    note: str = ""
