"""What the gate and the processes beside it say to each other: typed messages, packed with MessagePack.

Every message is a struct with its own name as its tag, its fields by name, so that neither their order nor a field that
one side does not know matters. PROTOCOL is a digest of all of them: each side says its own first (`Hello`), and who is
said another one takes nothing else from that side (`control.link.link`).
"""

import json
from hashlib import sha256
from typing import TypeAlias

import msgspec

from wily_sluice.gate.counters import CounterRow, Talk
from wily_sluice.gate.look import Look
from wily_sluice.plan.file.bundle import Bundle
from wily_sluice.units import Nanoseconds, Size


class Message(msgspec.Struct, frozen=True, tag=True):
    """One of those below."""


class Hello(Message, frozen=True):
    """The first from either side: how it speaks, and of which version of the program it is."""

    protocol: str
    version: str


# From the gate.


class Past(msgspec.Struct, frozen=True):
    """A running trial: when it ends, on the boot clock, and which plan returns then."""

    ends: Nanoseconds
    before_revision: int
    before: Bundle


class State(Message, frozen=True):
    """The plan that the gate shapes by. Said at the beginning, and after every change of it."""

    revision: int
    bundle: Bundle
    trial: Past | None


class Undone(Message, frozen=True):
    """A trial is over, and what was before it runs."""

    revision: int
    running: int
    bundle: Bundle
    why: str


class Rows(Message, frozen=True):
    """Some of what was counted; a `Tick` follows when that is all."""

    rows: list[CounterRow]


class Health(msgspec.Struct, frozen=True):
    """How the gate itself is. Counts since it began, but `longest_turn` and `busy`, which are of the time since a tick.

    `unreadable` packets were no IP that can be read; `unshaped` bypassed the gate, which did not keep up; `crowd` went
    by a stand-in (`crowd`), `unrecognised` were not looked at for want of time; `late_turns` of the loop took
    too long; `refused` messages of verdicts were sent again; `shed` packets would have opened conversations and were
    dropped, since there were too many (`gate.openings`). `busy` is the part of the time in which the loop worked.
    `unseen` packets crossed an interface that is a way out and no uplink. `crossed` has for each uplink and direction
    the bytes that crossed its interface, and those of them that came by the gate. `down` uplinks are not used by
    routes; `carried` conversations were sent over each by them. `found` are the rates that varying lines carry now.
    """

    unreadable: int = 0
    unshaped: int = 0
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


class Tick(Message, frozen=True):
    """A stretch of time is over: when, in seconds since 1970, and how long it was."""

    at: float
    lasted: Nanoseconds
    health: Health
    talks: list[Talk]
    visits: list[tuple[bytes, str]]


class Interface(Message, frozen=True):
    """An interface of an uplink has gone, or is there again."""

    name: str
    here: bool


class Event(Message, frozen=True):
    """Something that belongs in the log."""

    event: str
    level: str
    about: dict[str, str | int | float | bool]


class Done(Message, frozen=True):
    """What became of an order: empty, or why it was not carried out."""

    number: int
    trouble: str


class Seen(Message, frozen=True):
    """What is known of a conversation; None when it is not open."""

    number: int
    look: Look | None


# From the process beside it.


class Order(Message, frozen=True):
    """Something that is answered; the answer has its number."""

    number: int


class Take(Order, frozen=True):
    """Go on by a plan, for good, or on trial for so long; unless `until` has passed, on the boot clock."""

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
    """What is known of the conversation with this key?"""

    key: bytes


class Watch(Message, frozen=True):
    """Tick this often; and count single conversations, or do not."""

    pace: Nanoseconds
    conversations: bool


class Opened(Message, frozen=True):
    """Ports of hosts that were opened for a service: address, protocol, port, and the service's name. All of them."""

    ports: list[tuple[bytes, int, int, str]]


class Heard(Message, frozen=True):
    """The tick has come, and was dealt with."""


class Stop(Order, frozen=True):
    """End."""


# Between the gate and its clerk, which is always of the same version.


class Charge(msgspec.Struct, frozen=True, array_like=True):
    """That an account of a limiter used so many bytes more in a period."""

    limiter: str
    period: str
    account: bytes
    size: Size


class Batch(Message, frozen=True):
    """Charges to be written down, together, once."""

    number: int
    charges: list[Charge]


class Written(Message, frozen=True):
    """All batches up to this one are on the disk."""

    number: int


class Examine(Message, frozen=True):
    """Read this plan."""

    bundle: Bundle


class Used(Message, frozen=True):
    """What had the accounts of a limiter used of a period?"""

    limiter: str
    period: str


class PlanRead(Message, frozen=True):
    """The plan as an object, pickled: the sender was forked from the receiver."""

    pickled: bytes


class UsedSoFar(Message, frozen=True):
    """By account, in bytes."""

    accounts: dict[bytes, Size]


class Refused(Message, frozen=True):
    """Why there is no answer."""

    why: str


FromGate: TypeAlias = Hello | State | Undone | Rows | Tick | Interface | Event | Done | Seen
ToClerk: TypeAlias = Examine | Used
FromClerk: TypeAlias = PlanRead | UsedSoFar | Refused
ToGate: TypeAlias = Hello | Take | Hold | Resume | Kept | Undo | Ask | Watch | Opened | Heard | Stop
PROTOCOL = sha256(json.dumps(msgspec.json.schema(FromGate | ToGate), sort_keys=True).encode()).hexdigest()[:16]
