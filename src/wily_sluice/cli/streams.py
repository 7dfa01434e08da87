"""The standard streams, whatever they are: of another encoding, full, or closed."""

import codecs
import os
import sys
import unicodedata
from contextlib import suppress
from io import TextIOWrapper
from pathlib import Path

# What stands for characters of ours where only others can be written.
PLAIN = {
    "“": '"', "”": '"', "‘": "'", "’": "'", "→": "->", "←": "<-", "↑": "^", "↓": "v", "↪": "~>", "…": "...", "–": "-",
    "—": "-", "−": "-", "×": "x", "·": ".", "•": "*", "≤": "<=", "≥": ">=", "│": "|", "─": "-", "└": "`", "├": "|",
    "█": "#", "▌": "#", "▐": "#", "✓": "+", "✗": "x", "µ": "u",
}  # fmt: skip


def _plain(error: UnicodeError) -> tuple[str, int]:
    """Say it with characters that can be written: the closest, else `#` for blocks and `?`."""
    if not isinstance(error, UnicodeEncodeError):
        raise error
    problems = []
    for character in error.object[error.start : error.end]:
        closest = PLAIN.get(character) or unicodedata.normalize("NFKD", character)
        with suppress(UnicodeEncodeError):
            closest.encode(error.encoding)
            problems.append(closest)
            continue
        closest = closest.encode("ascii", "ignore").decode()
        problems.append(closest or ("#" if "\u2580" <= character <= "\u28ff" else "?"))
    return "".join(problems), error.end


def prepare() -> None:
    """Make sure that everything printed can be encoded; output without a destination is dropped."""
    codecs.register_error("sluice-plain", _plain)
    # A stream that was closed is None; opened in their order, these take the very places of those that are missing.
    nowhere = Path(os.devnull)
    sys.stdin = sys.stdin or nowhere.open()
    sys.stdout = sys.stdout or nowhere.open("w")
    sys.stderr = sys.stderr or nowhere.open("w")
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper) and not stream.encoding.lower().replace("-", "").startswith("utf"):
            stream.reconfigure(errors="sluice-plain")


def give_up() -> None:
    """Discard further output, so that the end of the program does not fail on it again."""
    with suppress(OSError, ValueError):
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, sys.stdout.fileno())
        os.close(nowhere)
