"""What is so of a machine, as far as ailments ask. No fact is read here."""

from dataclasses import dataclass, field
from ipaddress import IPv4Interface, IPv6Interface
from typing import TypeAlias

from wily_sluice.plan.mark_field import MarkUse
from wily_sluice.units import Rate, Size

InterfaceAddress: TypeAlias = IPv4Interface | IPv6Interface


@dataclass(frozen=True, slots=True)
class Interface:
    """`link` says that it is up and so is its link; `bridge` is the bridge that it is a port of, or empty; `discipline`
    is what the kernel queues its packets by. `speed` in bit/s and `full_duplex` are None where nobody says; so is
    `sleeps`, that its device may be suspended to save power. `features` are those of its card that are on, of those
    that matter (`doctor.features`).
    """

    name: str
    link: bool
    mtu: Size
    kind: str = ""
    bridge: str = ""
    discipline: str = ""
    speed: Rate | None = None
    full_duplex: bool | None = None
    sleeps: bool | None = None
    features: frozenset[str] = frozenset()
    addresses: tuple[InterfaceAddress, ...] = ()


@dataclass(frozen=True, slots=True)
class Facts:
    """`ways_out` are interfaces of default routes, of IPv4 and of IPv6. `settings` are those of /proc/sys that could be
    read, by their paths there. `in_step` says that the clock is kept to a reference; None where nobody says.

    `flow_tables` are those of nf_tables, whose packets bypass all chains; `clamps` says that a rule lowers what
    TCP takes for the largest segment; sources of IPv4 are `translated` out of interfaces with these names, which may
    end with `*`; both are None where rules cannot be read. `busy` is the part of what the gate was measured
    to carry here that the plan's lines come to, None where nobody has measured.

    Filters drop all new forwarded conversations of the versions of IP that are `closed`. `slow` says why the engine is
    not compiled, `queue` why the kernel's packet queue cannot be used; both are empty where all is well. `missing` are
    commands that the gate runs and that are not installed. `mark_uses` are other programs' firewall marks and routing
    rules.
    """

    interfaces: dict[str, Interface]
    ways_out: dict[int, tuple[str, ...]]
    settings: dict[str, str] = field(default_factory=dict)
    cores: int = 1
    in_step: bool | None = None
    flow_tables: tuple[str, ...] = ()
    clamps: bool | None = None
    translated: tuple[str, ...] | None = None
    closed: tuple[int, ...] = ()
    busy: float | None = None
    slow: str = ""
    queue: str = ""
    missing: tuple[str, ...] = ()
    mark_uses: tuple[MarkUse, ...] = ()

    def number(self, path: str) -> int | None:
        """A setting that is a number."""
        text = self.settings.get(path, "")
        return int(text) if text.lstrip("-").isdigit() else None
