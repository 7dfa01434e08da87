"""Files on a disk: plans, traffic, and new ones."""

from __future__ import annotations

import os
import sys
import tempfile
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from wily_sluice.errors import SluiceError
from wily_sluice.plan import read
from wily_sluice.plan.file.source import Source
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Plan
from wily_sluice.units import Size

if TYPE_CHECKING:
    from wily_sluice.forecast.lab.traffic import Traffic


STANDARD_INPUT = Path("-")


class Stdin(Source):
    """The standard input, which is read once. Files that it names are in the current folder."""

    def __init__(self) -> None:
        super().__init__("standard input")
        self._content: bytes | None = None

    def read(self, limit: Size) -> bytes:
        """Its first bytes, up to a limit."""
        if self._content is None:
            self._content = sys.stdin.buffer.read(limit)
        return self._content[:limit]

    def beside(self, name: str) -> DiskFile:
        """The file of this name in the current folder."""
        return DiskFile(Path(name))


class DiskFile(Source):
    """A file by its path. Files that it names are relative to its folder."""

    def __init__(self, path: Path) -> None:
        super().__init__(str(path))
        self._path = path

    def read(self, limit: Size) -> bytes:
        """Its first bytes, up to a limit."""
        with self._path.open("rb") as file:
            return file.read(limit)

    def beside(self, name: str) -> DiskFile:
        """The file of this name, relative to the folder that this one is in."""
        return DiskFile(self._path.parent / name)


def source_of(path: Path) -> Source:
    """The file at a path; of `-`, the standard input."""
    return Stdin() if path == STANDARD_INPUT else DiskFile(path)


def examine(path: Path) -> tuple[Plan | None, list[Finding]]:
    """Read and check the plan in a file: see `plan.read.examine`."""
    return read.examine(source_of(path))


def load(path: Path) -> Plan:
    """The plan in a file, to be used. FileError with its errors when it cannot be."""
    return read.load(source_of(path))


def load_traffic(path: Path, plan: Plan) -> Traffic:
    """The traffic file for this plan. FileError with all its errors."""
    from wily_sluice.forecast.lab import traffic  # the lab takes a while to load

    return traffic.load_traffic(source_of(path), plan)


class CannotWriteError(SluiceError):
    """The file cannot be written: the message says why."""


def write_new(path: Path, content: bytes, replace: bool = False) -> None:
    """Write a file; one that is there already only where it may be replaced. CannotWriteError when that fails."""
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.resolve().parent)
    except OSError as error:
        raise CannotWriteError(f"cannot write {path}: {error.strerror}") from None
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        umask = os.umask(0)
        os.umask(umask)
        Path(name).chmod(0o666 & ~umask)
        if replace:
            Path(name).replace(path)
        else:
            os.link(name, path)  # which fails where there is one
    except FileExistsError:
        raise CannotWriteError(f"{path} is there already: name another with --output, or use --force") from None
    except OSError as error:
        raise CannotWriteError(f"cannot write {path}: {error.strerror}") from None
    finally:
        with suppress(OSError):
            Path(name).unlink()
