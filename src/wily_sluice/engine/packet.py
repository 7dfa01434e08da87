"""A packet in the engine: a size, a conversation, and a token that identifies it to the caller."""

from typing import TYPE_CHECKING, Any, Final

from wily_sluice.units import Nanoseconds, Size

if TYPE_CHECKING:
    from wily_sluice.engine.conversations.conversation import Conversation
    from wily_sluice.engine.queueing.flow_path import FlowPath
    from wily_sluice.engine.tally import FlowTally

NOT_ECT: Final = 0  # the ECN field (RFC 3168 §5)
ECT_1: Final = 1
ECT_0: Final = 2
CE: Final = 3


class Packet:
    """`size` is in bytes as charged on the line, `length` without framing, `payload` the application's bytes; `wrapped`
    is the part of `length` that a tunnel adds.

    `kind` has the kinds of packet (`engine.classify.kind`) if rules need them. `arrived` is the time of arrival,
    `entered` the time it joined its present queue.

    `ecn` is the ECN field on arrival. `marked` means that a queue has ECN-marked it instead of dropping it, and the
    caller must send it with CE. In the same way, a `dscp` other than -1 must be written into it. A packet is in one
    queue at a time; `behind` links the order of that queue.
    """

    __slots__ = (
        "arrived",
        "behind",
        "conversation",
        "dscp",
        "ecn",
        "entered",
        "flow_path",
        "kind",
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
        self.flow_path: FlowPath | None = None  # the way through limiters to a leaf, set by the shaper it is offered to
        self.stage = 0  # how many limiters it has passed
        self.behind: Packet | None = None
