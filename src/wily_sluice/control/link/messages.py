"""Messages between the gate and its other processes: typed, and packed with MessagePack.

Every message is a struct with its name as its tag and its fields by name, so that neither their order nor an unknown
field matters. PROTOCOL is a digest of all types: each side sends its own first (`Hello`), and a side that receives
another one accepts nothing else (`control.link.link`).
"""

import json
from hashlib import sha256
from typing import TypeAlias

import msgspec

from wily_sluice.gate.look import Look
from wily_sluice.gate.observers import CounterRow, Talk
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.units import Nanoseconds, Size


class Message(msgspec.Struct, frozen=True, tag=True):
    """The base of the messages below."""


class Hello(Message, frozen=True):
    """The first from either side: its protocol, and the version of the program."""

    protocol: str
    version: str


# From the gate.


class Past(msgspec.Struct, frozen=True):
    """A running trial: when it ends, on the boot clock, and which plan returns then."""

    ends: Nanoseconds
    before_revision: int
    before: Bundle


class State(Message, frozen=True):
    """The gate's plan. Sent at the beginning, and after every change. It shapes since `begun`, on the boot clock."""

    revision: int
    bundle: Bundle
    trial: Past | None
    begun: Nanoseconds = 0


class Undone(Message, frozen=True):
    """A trial is over, and the plan before it runs."""

    revision: int
    running: int
    bundle: Bundle
    why: str


class Rows(Message, frozen=True):
    """Some of the counters; a `Tick` follows the last."""

    rows: list[CounterRow]


class Health(msgspec.Struct, frozen=True):
    """The condition of the gate. Counts since its start, but `longest_turn` and `busy` cover the time since a tick.

    `unreadable` packets were not valid IP; `bypassed` ones bypassed the gate because it was too slow; `crowd` ones
    shared a stand-in (`crowd`); `unrecognised` ones were not examined for lack of time. `late_turns` of the loop took
    too long; `refused` verdict messages were sent again; `shed` packets would have opened too many conversations and
    were dropped (`gate.new_flows`). `busy` is the fraction of time that the loop worked. `unseen` packets crossed an
    interface with a default route that is no uplink. `crossed` has for each uplink and direction the bytes on its
    interface, and those through the gate. Routes avoid `down` uplinks; they have sent `carried` conversations over
    each. `found` are the present rates of varying uplinks. `why` gives the reason for each uplink that is down.
    """

    unreadable: int = 0
    bypassed: int = 0
    crowd: int = 0
    unrecognised: int = 0
    late_turns: int = 0
    refused: int = 0
    shed: int = 0
    longest_turn: Nanoseconds = 0
    busy: float = 0.0
    unseen: dict[str, int] = msgspec.field(default_factory=dict)
    crossed: dict[str, dict[str, tuple[Size, Size]]] = msgspec.field(default_factory=dict)
    down: list[str] = []
    carried: dict[str, int] = msgspec.field(default_factory=dict)
    found: dict[str, dict[str, int]] = msgspec.field(default_factory=dict)
    why: dict[str, str] = msgspec.field(default_factory=dict)


class Tick(Message, frozen=True):
    """A stretch of time is over: when, in seconds since 1970, and how long it was."""

    at: float
    lasted: Nanoseconds
    health: Health
    talks: list[Talk]
    visits: list[tuple[bytes, str]]


class Interface(Message, frozen=True):
    """An uplink's interface has gone, or is back."""

    name: str
    here: bool


class Event(Message, frozen=True):
    """An entry for the log."""

    event: str
    level: str
    about: dict[str, str | int | float | bool]


class Done(Message, frozen=True):
    """The result of an order: empty, or why it was not carried out."""

    number: int
    trouble: str


class Seen(Message, frozen=True):
    """The details of a conversation; None if it is not open."""

    number: int
    look: Look | None


# From the process beside it.


class Order(Message, frozen=True):
    """A request; its answer has the same number."""

    number: int


class Take(Order, frozen=True):
    """Switch to a plan, for good or on trial, unless `until` has passed on the boot clock."""

    bundle: Bundle
    revision: int
    trial: Nanoseconds | None
    until: Nanoseconds


class Hold(Order, frozen=True):
    """Stop a trial's clock while it is recorded as kept."""

    revision: int


class Resume(Order, frozen=True):
    """Restart the clock: it could not be recorded."""


class Kept(Order, frozen=True):
    """The trial is over, and its plan stays."""


class Undo(Order, frozen=True):
    """End the trial."""

    why: str


class Ask(Order, frozen=True):
    """Asks for the details of the conversation with this key."""

    key: bytes


class Watch(Message, frozen=True):
    """Tick this often; count single conversations, or stop counting them."""

    pace: Nanoseconds
    conversations: bool


class Opened(Message, frozen=True):
    """Ports of hosts that were opened for a service: address, protocol, port, and the service's name. The complete
    list.
    """

    ports: list[tuple[bytes, int, int, str]]


class Heard(Message, frozen=True):
    """The tick has been handled."""


class Stop(Order, frozen=True):
    """End."""


# Between the gate and its worker, which is always of the same version.


class Charge(msgspec.Struct, frozen=True, array_like=True):
    """Bytes that an account of a limiter used in a period, in addition."""

    limiter: str
    period: str
    account: bytes
    size: Size


class Batch(Message, frozen=True):
    """Charges to be written together, once."""

    number: int
    charges: list[Charge]


class Written(Message, frozen=True):
    """All batches up to this one are on the disk."""

    number: int


class Examine(Message, frozen=True):
    """Read this plan."""

    bundle: Bundle


class Used(Message, frozen=True):
    """Asks for the use of a limiter's accounts in a period."""

    limiter: str
    period: str


class PlanRead(Message, frozen=True):
    """The plan as an object, pickled: the sender was forked from the receiver."""

    pickled: bytes


class UsedSoFar(Message, frozen=True):
    """The use by account, in bytes."""

    accounts: dict[bytes, Size]


class Refused(Message, frozen=True):
    """Why there is no answer."""

    why: str


FromGate: TypeAlias = Hello | State | Undone | Rows | Tick | Interface | Event | Done | Seen
ToWorker: TypeAlias = Examine | Used
FromWorker: TypeAlias = PlanRead | UsedSoFar | Refused
ToGate: TypeAlias = Hello | Take | Hold | Resume | Kept | Undo | Ask | Watch | Opened | Heard | Stop
PROTOCOL = sha256(json.dumps(msgspec.json.schema(FromGate | ToGate), sort_keys=True).encode()).hexdigest()[:16]
