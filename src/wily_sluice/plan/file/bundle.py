"""A plan with the files that it names, as bytes: what is kept of a revision, and read again later, elsewhere."""

import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from hashlib import sha256
from pathlib import Path
from tempfile import TemporaryDirectory

from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.read import examine

PLAN_NAME = "plan.yaml"
MEMORY = "/dev/shm"  # shm_overview(7)


@dataclass(frozen=True, slots=True)
class Bundle:
    """`plan` is the plan file, `files` what it names, by the names that it gives."""

    plan: bytes
    files: Mapping[str, bytes] = field(default_factory=dict)

    @property
    def digest(self) -> str:
        """SHA-256 over all of it, in hexadecimal digits: equal for equal contents and names."""
        whole = sha256()
        for name, content in (("", self.plan), *sorted(self.files.items())):
            for part in (name.encode(), content):
                whole.update(len(part).to_bytes(8, "big") + part)
        return whole.hexdigest()

    @contextmanager
    def unpacked(self) -> Iterator[tuple[Path, dict[str, Path]]]:
        """The plan file and the files that it names, in a folder that is there meanwhile. OSError when it cannot be.

        In memory, where the machine has such a place: a full disk is no reason not to know what a plan says.
        """
        memory = MEMORY if os.access(MEMORY, os.W_OK | os.X_OK) else None
        with TemporaryDirectory(prefix="sluice-", dir=memory) as folder:
            path = Path(folder) / PLAN_NAME
            path.write_bytes(self.plan)
            elsewhere = {}
            for place, (name, content) in enumerate(self.files.items()):
                elsewhere[name] = Path(folder) / f"{place}-{Path(name).name}"
                elsewhere[name].write_bytes(content)
            yield path, elsewhere

    def examine(self) -> tuple[Plan | None, list[Finding]]:
        """Read and check it, as `plan.read.examine` does."""
        with self.unpacked() as (path, elsewhere):
            return examine(path, elsewhere)

    def load(self) -> Plan:
        """The plan. FileError with its errors when it cannot be used."""
        plan, findings = self.examine()
        if plan is None:
            raise FileError(finding for finding in findings if finding.severity == "error")
        return plan


def bundle_of(plan: Plan) -> Bundle:
    """A plan that was read from its files, and these. FileError when one of them is gone meanwhile."""
    files = {}
    for name, path in plan.document.others.items():
        try:
            files[name] = path.read_bytes()
        except OSError as error:
            message = f"cannot be read: {error.strerror}"
            raise FileError([Finding("error", str(path), None, "", message)]) from None
    return Bundle(plan.document.raw, files)
