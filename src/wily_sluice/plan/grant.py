"""A grant: whose ports may be opened."""

from dataclasses import dataclass

from wily_sluice.engine.classify.header import TCP, UDP
from wily_sluice.plan.asking import Party
from wily_sluice.units import Nanoseconds

TRANSPORTS = {TCP: "tcp", UDP: "udp"}  # those whose ports can be opened


@dataclass(frozen=True, slots=True)
class Grant:
    """That hosts may have ports opened, inside as outside among these: so many each, for so long without asking again.

    `ports` has ranges by protocol number. `uplink` is the one that they are opened on; `service` the name of what then
    comes by them, empty where that is not said.
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
