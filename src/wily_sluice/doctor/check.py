"""A check of the machine: the facts that it sees, its description, and its fix."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Interface, IPv6Interface
from typing import Literal, TypeAlias

from wily_sluice.plan.mark_field import MarkUse
from wily_sluice.plan.model import Plan
from wily_sluice.units import Rate, Size

InterfaceAddress: TypeAlias = IPv4Interface | IPv6Interface


@dataclass(frozen=True, slots=True)
class Interface:
    """`link` means that it is up and has a link; `bridge` is the bridge that it is a port of, or empty; `discipline` is
    the kernel's queueing discipline. `speed` in bit/s and `full_duplex` are None if unknown; so is `sleeps`, whether
    its device may be suspended to save power. `features` are the active features of its card among the relevant ones
    (`doctor.features`).
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
    """`ways_out` are interfaces of default routes, for IPv4 and IPv6. `settings` are the readable ones of /proc/sys, by
    path. `in_step` means that the clock follows a reference; None if unknown.

    `flow_tables` are those of nf_tables, whose packets bypass all chains; `clamps` means that a rule lowers TCP's
    maximum segment size; IPv4 sources are `translated` on interfaces with these names, which may end with `*`; both are
    None if rules cannot be read. `busy` is the fraction of the gate's measured capacity that the plan's uplinks need,
    None without a measurement.

    Filters drop all new forwarded conversations of the IP versions that are `closed`. `slow` says why the engine is not
    compiled, `queue` why the kernel's packet queue is unavailable; both are empty if all is well. `missing` are
    commands that the gate needs and that are not installed. `mark_uses` are other programs' firewall marks and routing
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


Severity: TypeAlias = Literal["error", "warning"]


@dataclass(frozen=True, slots=True)
class Change:
    """Write `value` into a file of the kernel's below /proc/sys or /sys, by its whole path; or switch a feature of a
    card (`doctor.features`).
    """

    path: str
    value: str

    @property
    def setting(self) -> str:
        """The name for sysctl.d(5); empty if it is not below /proc/sys."""
        inside = self.path.removeprefix("/proc/sys/")
        return "" if inside == self.path else inside.replace(".", "\0").replace("/", ".").replace("\0", "/")


@dataclass(frozen=True, slots=True)
class Found:
    """One thing that is wrong: where, what, and what to do. `changes` fix it, where that is safe."""

    where: str
    message: str
    remedy: str
    changes: tuple[Change, ...] = ()


@dataclass(frozen=True, slots=True)
class Check:
    """A kind of problem. An error prevents shaping, a warning makes it worse than the plan says."""

    code: str
    severity: Severity
    story: str
    find: Callable[[Plan, Facts], Iterator[Found]]


def setting(path: str, value: str) -> Change:
    """A change of a setting, by its path below /proc/sys."""
    return Change(f"/proc/sys/{path}", value)
