"""Lists as a person writes them: one value, or several; words, ports, names."""

import re
from typing import Annotated, Any

from pydantic import BeforeValidator

from wily_sluice.units import quoted

_NAME = re.compile(r"[^\W\d][\w.-]*")


def listed(value: Any) -> Any:
    """A single value where a list may stand is a list of one."""
    return value if isinstance(value, list) else [value]


def flat(parse: Any) -> BeforeValidator:
    """Parse a value, or each value of a list, and join the results."""

    def parse_all(value: object) -> tuple[Any, ...]:
        values = listed(value)
        if not values:
            raise ValueError("the list is empty: leave the key out to mean any")
        return tuple(part for item in values for part in parse(item))

    return BeforeValidator(parse_all)


def parse_name(text: object) -> str:
    """A name that a part of a plan can have."""
    if not isinstance(text, str) or not _NAME.fullmatch(text):
        raise ValueError(
            f"{quoted(text)} is not a valid name: start with a letter, then use letters, digits, - _ and ."
        )
    return text


def _words(value: object) -> tuple[str, ...]:
    words = listed(value)
    if not words or not all(isinstance(word, str) and word.strip() for word in words):
        raise ValueError("write names of groups or networks, addresses, ranges or subnets")
    return tuple(word.strip() for word in words)


def _port_words(value: object) -> tuple[str | int, ...]:
    words = listed(value)
    if not words or not all(isinstance(word, (str, int)) and not isinstance(word, bool) for word in words):
        raise ValueError("write ports like 443, 5060-5080 or 443/tcp, or groups of ports")
    return tuple(words)


Name = Annotated[str, BeforeValidator(parse_name)]
Words = Annotated[tuple[str, ...], BeforeValidator(_words)]
PortWords = Annotated[tuple[str | int, ...], BeforeValidator(_port_words)]
