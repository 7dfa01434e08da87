"""A recogniser's verdict on a conversation's first packets."""

from dataclasses import dataclass
from typing import Final, TypeAlias


@dataclass(frozen=True, slots=True)
class Verdict:
    """`seen` is one of `engine.known.PROTOCOLS_SEEN`; `name` the remote's host name, where the packets tell it.

    A verdict that is not `certain` is only probable, and stands until something certain is seen. One that is not
    `final` is certain, but a closer one may follow in the same conversation.
    """

    seen: str
    evidence: str
    name: str = ""
    certain: bool = True
    final: bool = True


class Wait:
    """Not yet: the recogniser wants to see the next packet."""


WAIT: Final = Wait()
Answer: TypeAlias = Verdict | Wait | None  # None: it is not that
