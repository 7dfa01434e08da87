"""A plan with the files that it names, as bytes: the stored form of a revision, which can be read elsewhere later."""

from base64 import b64decode
from collections.abc import Mapping
from dataclasses import dataclass, field
from hashlib import sha256
from typing import Any

from wily_sluice.plan.file.source import Kept
from wily_sluice.plan.findings.finding import FileError, Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.read import examine
from wily_sluice.units import format_size

PLAN_NAME = "plan.yaml"
MOST_BYTES = 400_000_000  # of one file


@dataclass(frozen=True, slots=True)
class Bundle:
    """`plan` is the plan file, `files` the files it names, by these names."""

    plan: bytes
    files: Mapping[str, bytes] = field(default_factory=dict)

    @property
    def digest(self) -> str:
        """SHA-256 over everything, in hexadecimal: equal for equal contents and names."""
        whole = sha256()
        for name, content in (("", self.plan), *sorted(self.files.items())):
            for part in (name.encode(), content):
                whole.update(len(part).to_bytes(8, "big") + part)
        return whole.hexdigest()

    def examine(self) -> tuple[Plan | None, list[Finding]]:
        """Read and check it, as `plan.read.examine` does."""
        return examine(Kept(PLAN_NAME, self.plan, self.files))

    def load(self) -> Plan:
        """The plan. FileError with its errors when it cannot be used."""
        plan, findings = self.examine()
        if plan is None:
            raise FileError(finding for finding in findings if finding.severity == "error")
        return plan


def bundle_of(plan: Plan) -> Bundle:
    """A bundle of a plan and its files. FileError if a file has gone."""
    files = {}
    for name, source in plan.document.others.items():
        try:
            files[name] = source.read(MOST_BYTES + 1)
        except OSError as error:
            message = f"cannot be read: {error.strerror}"
            raise FileError([Finding("error", source.name, None, "", message, "", "unreadable")]) from None
        if len(files[name]) > MOST_BYTES:
            raise FileError(
                [Finding("error", source.name, None, "", f"is larger than {format_size(MOST_BYTES)}", "", "unreadable")]
            )
    return Bundle(plan.document.raw, files)


def bundle_from(answer: Mapping[str, Any]) -> Bundle:
    """A plan with its files, as a gate tells them: `plan`, and `files` by name, in base64 (RFC 4648)."""
    return Bundle(b64decode(answer["plan"]), {name: b64decode(content) for name, content in answer["files"].items()})
