"""A packet as the engine knows it: a size, a conversation, and a token by which the caller knows it again."""

from typing import TYPE_CHECKING, Any

from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.conversation import Conversation


class Packet:
    """`size` is in bytes as charged on the line. `entered` is when it joined the queue that it stands in."""

    __slots__ = ("conversation", "entered", "lane", "size", "stage", "token")

    def __init__(self, size: Size, conversation: "Conversation", token: Any = None) -> None:
        self.size = size
        self.conversation = conversation
        self.token = token
        self.entered: Nanoseconds = 0
        self.lane: Any = None  # the way through limiters to a leaf; set by the shaper that the packet is offered to
        self.stage = 0  # how many limiters it has passed
