"""The files of a plan: as they are read, bundled for the history, and with comments that allow findings.

Comments that allow a finding: `# sluice: allow CODE reason`.

A comment at the end of a line refers to that line; a comment on a separate line refers to the next line that is not
blank or a comment. It silences warnings of that code about the part that begins there, with everything inside. Errors
cannot be allowed.
"""

import re
from collections.abc import Mapping
from dataclasses import dataclass

from wily_sluice.units import Size


class Source:
    """`name` is what messages call it."""

    def __init__(self, name: str) -> None:
        self.name = name

    @property
    def last_name(self) -> str:
        """The name without folders."""
        return self.name.rpartition("/")[2]

    def read(self, limit: Size) -> bytes:
        """Its first bytes, up to a limit. OSError if it cannot be read."""
        raise NotImplementedError

    def beside(self, name: str) -> "Source":
        """The file that this one means by a name."""
        raise NotImplementedError


class Kept(Source):
    """A file that is kept as bytes; `others` are those that it names."""

    def __init__(self, name: str, content: bytes, others: Mapping[str, bytes] = {}) -> None:
        super().__init__(name)
        self._content = content
        self._others = others

    def read(self, limit: Size) -> bytes:
        """The bytes."""
        return self._content[:limit]

    def beside(self, name: str) -> Source:
        """One of the others."""
        if name in self._others:
            return Kept(name, self._others[name])
        return Missing(name)


class Missing(Source):
    """A file that is not there."""

    def read(self, limit: Size) -> bytes:
        """Nothing."""
        raise FileNotFoundError(2, "No such file or directory", self.name)

    def beside(self, name: str) -> Source:
        """Nor is any other."""
        return Missing(name)


_COMMENT = re.compile(r"(?:^|\s)#\s*sluice:\s*allow\b[ \t]*(?P<code>[\w-]*)[ \t]*(?P<reason>.*)$")


@dataclass(slots=True)
class Allowance:
    """One such comment: where it stands, the line that it speaks of, and whether it has silenced something."""

    line: int
    covers: int
    code: str
    reason: str
    used: bool = False


def allowances(text: str) -> list[Allowance]:
    """Those of a file, in its order."""
    allowances: list[Allowance] = []
    waiting: list[Allowance] = []
    for number, line in enumerate(text.split("\n"), 1):
        alone = line.lstrip().startswith("#")
        if line.strip() and not alone:
            for allowance in waiting:
                allowance.covers = number
            waiting.clear()
        if "sluice:" in line and (match := _COMMENT.search(line)):
            allowance = Allowance(number, number, match["code"], match["reason"].strip())
            allowances.append(allowance)
            if alone:
                waiting.append(allowance)
    return allowances
