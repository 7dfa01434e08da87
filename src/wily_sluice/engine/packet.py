"""A packet as the engine knows it: a size, a conversation, and a token by which the caller knows it again."""

from typing import TYPE_CHECKING, Any, Final

from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.conversation import Conversation
    from wily_sluice.engine.queueing.lane import Lane
    from wily_sluice.engine.tally import FlowTally

NOT_ECT: Final = 0  # the ECN field (RFC 3168 §5)
ECT_1: Final = 1
ECT_0: Final = 2
CE: Final = 3


class Packet:
    """`size` is in bytes as charged on the line, `length` without framing, `payload` what of it an application sent;
    of `length`, `wrapped` is what a tunnel puts around it.

    `kind` is what kinds of packet it is (`engine.classify.kind`), where rules ask. `arrived` is when it
    came, `entered` when it joined the queue that it stands in.

    `ecn` is the ECN field that it came with; `marked` says that a queue has marked it instead of dropping it, and the
    caller must then send it on with CE; likewise with another DSCP, where `dscp` is not -1. A packet stands in one
    queue at a time, whose order `behind` keeps.
    """

    __slots__ = (
        "arrived",
        "behind",
        "conversation",
        "dscp",
        "ecn",
        "entered",
        "kind",
        "lane",
        "length",
        "marked",
        "payload",
        "size",
        "stage",
        "tally",
        "token",
        "wrapped",
    )

    def __init__(
        self,
        size: Size,
        conversation: "Conversation",
        token: Any = None,
        ecn: int = NOT_ECT,
        payload: Size = 0,
        length: Size = 0,
        kind: int = 0,
    ) -> None:
        self.size = size
        self.conversation = conversation
        self.token = token
        self.ecn = ecn
        self.payload = payload
        self.length = length or size
        self.wrapped: Size = 0
        self.kind = kind
        self.dscp = -1
        self.marked = False
        self.entered: Nanoseconds = 0
        self.arrived: Nanoseconds = 0
        self.tally: FlowTally | None = None  # where the shaper counts it
        self.lane: Lane | None = None  # the way through limiters to a leaf, set by the shaper it is offered to
        self.stage = 0  # how many limiters it has passed
        self.behind: Packet | None = None
