"""Plans and traffic files on a disk."""

from pathlib import Path

from wily_sluice.forecast.lab import traffic as lab_traffic
from wily_sluice.forecast.lab.traffic import Traffic
from wily_sluice.plan import read
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Plan
from wily_sluice.units import Size


class DiskFile(Source):
    """A file by its path. Others are beside it."""

    def __init__(self, path: Path) -> None:
        super().__init__(str(path))
        self._path = path

    def read(self, limit: Size) -> bytes:
        """Its first bytes, no more than so many."""
        with self._path.open("rb") as file:
            return file.read(limit)

    def beside(self, name: str) -> "DiskFile":
        """The file of this name, relative to the folder that this one is in."""
        return DiskFile(self._path.parent / name)


def examine(path: Path) -> tuple[Plan | None, list[Finding]]:
    """Read and check the plan in a file: see `plan.read.examine`."""
    return read.examine(DiskFile(path))


def load(path: Path) -> Plan:
    """The plan in a file, to be used. FileError with its errors when it cannot be."""
    return read.load(DiskFile(path))


def load_traffic(path: Path, plan: Plan) -> Traffic:
    """The traffic file that is to be run with this plan. FileError with all that is wrong with it."""
    return lab_traffic.load_traffic(DiskFile(path), plan)
