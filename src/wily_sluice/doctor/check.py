"""A kind of problem: the check, its description, and its fix."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal, TypeAlias

from wily_sluice.doctor.facts import Facts
from wily_sluice.plan.model import Plan

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
