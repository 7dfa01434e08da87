"""Comments that allow a finding: `# sluice: allow CODE reason`.

A comment at the end of a line refers to that line; a comment on a separate line refers to the next line that is not
blank or a comment. It silences warnings of that code about the part that begins there, with everything inside. Errors
cannot be allowed.
"""

import re
from dataclasses import dataclass

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
    found: list[Allowance] = []
    waiting: list[Allowance] = []
    for number, line in enumerate(text.splitlines(), 1):
        alone = line.lstrip().startswith("#")
        if line.strip() and not alone:
            for one in waiting:
                one.covers = number
            waiting.clear()
        if "sluice:" in line and (match := _COMMENT.search(line)):
            one = Allowance(number, number, match["code"], match["reason"].strip())
            found.append(one)
            if alone:
                waiting.append(one)
    return found
