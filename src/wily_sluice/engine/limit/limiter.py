"""Limiters: buckets that hold packets back, and quotas.

Quotas: volume per period, both directions together.

An `Account` belongs to one host, subnet or conversation of a limiter, or to all together, and outlives its bucket. It
counts the bytes that leave for the line, as an interface does: an IP packet with an Ethernet header of 14 bytes.
Dropped packets do not count. A new period clears the ledger; the caller knows the period.

A ledger has at most MOST_ACCOUNTS; beyond, the smallest are forgotten, so that thousands of short-lived hosts do not
displace accounts with real use.

Counts are handed over as increments, never as sums. The process that keeps the sums can therefore start without them.

A limiter has one bucket in total, or one for each local host (with all its addresses, if known: `neighbours`), address,
subnet or conversation. Excess packets wait, are dropped, or are marked:

- `wait`: a bucket is a virtual clock (the generic cell rate algorithm of ITU-T I.371, with a theoretical arrival time).
  Each packet advances it by its own time at the rate, and may pass if the clock is not ahead of now. While idle the
  clock falls behind by at most the burst. Waiting packets are in the bucket's own FQ-CoDel queue, so that conversations
  of a host do not delay each other.
- `drop` and `mark`: a bucket is a three-colour meter (RFC 2697, or RFC 2698 with a peak). Green and yellow pass; red is
  dropped. With `mark`, yellow and red pass with the mark.

A limiter may allow more while the line has room (`utilisation`), or apply only after a quota is used up.

Invariants: over any window of t, a bucket that waits passes at most rate x t + burst + one packet, if the caller is on
time. After a stall with waiting packets, it also passes the packets that the stall delayed, up to CATCH_UP at the rate.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final, Literal, TypeAlias, cast
from weakref import WeakValueDictionary

from mypy_extensions import mypyc_attr

from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.limit.meters import GREEN, RED, SLOT, Allowance, Draw, ThreeColour
from wily_sluice.engine.packet import LONGEST_FRAME, Packet
from wily_sluice.engine.queueing.flow_path import FlowPath, Onward
from wily_sluice.engine.queueing.fq_codel import FqCodel
from wily_sluice.engine.queueing.service_curve import at_rate, sending_time
from wily_sluice.engine.tally import ETHERNET_HEADER, Tally
from wily_sluice.units import BYTE_TIME, MILLISECOND, Nanoseconds, Rate, Size, transmission_time

if TYPE_CHECKING:
    from wily_sluice.engine.queueing.flow_path import FlowPath

MOST_ACCOUNTS: Final = 16_384
KEPT: Final = MOST_ACCOUNTS * 3 // 4  # of a full ledger


class Account:
    """The volume of the present period, and the part already handed over. A `forgotten` account does not count."""

    __slots__ = ("forgotten", "key", "told", "used")

    def __init__(self, key: bytes) -> None:
        self.key = key
        self.forgotten = False
        self.used: Size = 0
        self.told: Size = 0

    def count(self, length: Size) -> None:
        """Count a packet of this length, IP header included."""
        self.used += length + ETHERNET_HEADER


def _use(account: Account) -> Size:
    return account.used


class Ledger:
    """The accounts of one limiter, by key."""

    __slots__ = ("_accounts", "period")

    def __init__(self) -> None:
        self.period = ""
        self._accounts: dict[bytes, Account] = {}

    def account(self, key: bytes) -> Account:
        """An account, opened if need be."""
        account = self._accounts.get(key)
        if account is None:
            if len(self._accounts) >= MOST_ACCOUNTS:
                self._forget()
            account = self._accounts[key] = Account(key)
        return account

    def _forget(self) -> None:
        """Forget those that have used the least."""
        ordered = sorted(self._accounts.values(), key=_use, reverse=True)
        for account in ordered[KEPT:]:
            account.forgotten = True
        self._accounts = {account.key: account for account in ordered[:KEPT]}

    def begin(self, period: str) -> None:
        """Begin a period. Accounts that are in use stay the same objects."""
        self.period = period
        for account in self._accounts.values():
            account.used = account.told = 0

    def add(self, used: Mapping[bytes, Size]) -> None:
        """Add earlier use of this period, as it was stored."""
        for key, size in used.items():
            account = self.account(key)
            account.used += size
            account.told += size

    def news(self) -> dict[bytes, Size]:
        """The use of each account since the last call."""
        news = {}
        for key, account in self._accounts.items():
            if account.used != account.told:
                news[key] = account.used - account.told
                account.told = account.used
        return news

    def take_back(self, news: Mapping[bytes, Size]) -> None:
        """Hand this over again: it could not be delivered."""
        for key, size in news.items():
            self.account(key).told -= size

    def used(self) -> dict[bytes, Size]:
        """All accounts."""
        return {key: account.used for key, account in self._accounts.items()}


Excess: TypeAlias = Literal["wait", "drop", "mark"]
Whom: TypeAlias = Literal["together", "host", "address", "subnet", "network", "conversation"]
BURST_TIME: Final[Nanoseconds] = 20 * MILLISECOND
BURST_FRAMES: Final = 4
CATCH_UP: Final[Nanoseconds] = 100 * MILLISECOND  # of a stall, for those that had packets waiting


@dataclass(frozen=True, slots=True)
class Per:
    """Who shares a bucket. For subnets, `v4` and `v6` are the prefix lengths; `networks` are address ranges, each with
    the name of its network.
    """

    whom: Whom = "together"
    v4: int = 32
    v6: int = 64
    networks: tuple[tuple[bytes, bytes, bytes], ...] = ()

    def __reduce__(self) -> tuple[type["Per"], tuple[Whom, int, int, tuple[tuple[bytes, bytes, bytes], ...]]]:
        """For pickling, which the default cannot do of a frozen compiled class."""
        return (Per, (self.whom, self.v4, self.v6, self.networks))

    def key(self, conversation: Conversation, host: bytes) -> bytes:
        """The key of a bucket; `host` is the primary address of the local host."""
        if self.whom == "together":
            return b""
        if self.whom == "conversation":
            return conversation.key
        if self.whom == "host":
            return host
        if self.whom == "address":
            return conversation.home or conversation.parties.local
        local = conversation.home or conversation.parties.local
        if self.whom == "network":
            for first, last, name in self.networks:
                if len(first) == len(local) and first <= local <= last:
                    return name
            return b""
        spare = len(local) * 8 - (self.v4 if len(local) == 4 else self.v6)
        return (int.from_bytes(local) >> spare << spare).to_bytes(len(local))


@dataclass(frozen=True, slots=True)
class LimiterSpec:
    """A limiter in one direction. Rates in bit/s, bursts in bytes; None for derived or absent values.

    `second_burst` is the excess burst, or the burst of the `peak`. `threshold` is the utilisation up to which more than
    the rate may pass; `quota` the volume per period before the limiter applies.
    """

    name: str
    rate: Rate
    per: Per = Per()
    burst: Size | None = None
    excess: Excess = "wait"
    second_burst: Size = 0
    peak: Rate | None = None
    dscp: int = 0
    threshold: float | None = None
    quota: Size | None = None

    def __post_init__(self) -> None:
        if self.rate < 1:
            raise ValueError(f"limiter {self.name}: a rate is at least 1 bit/s, not {self.rate}")


def waiting_burst(rate: Rate) -> Size:
    """The default burst of a limiter whose excess waits."""
    return max(rate * BURST_TIME // BYTE_TIME, BURST_FRAMES * LONGEST_FRAME)


@mypyc_attr(native_class=False)  # which compiled classes are, and those take no weak references
class Bucket:
    """What one host, or everyone together, may send under a limiter."""

    __slots__ = (
        "__weakref__",
        "account",
        "burst",
        "clock",
        "draws",
        "held_by",
        "limiter",
        "meter",
        "queue",
    )

    def __init__(self, limiter: "Limiter", account: Account | None) -> None:
        self.limiter = limiter
        self.account = account
        self.clock: Nanoseconds = 0
        self.burst: Nanoseconds = 0
        self.queue: FqCodel | None = None  # only while something waits
        self.held_by: Allowance | None = None  # while something waits
        self.draws: dict[Allowance, Draw] | None = None
        self.meter: ThreeColour | None = None
        self.measure(limiter)

    def measure(self, limiter: "Limiter") -> None:
        """Take on the limiter's rate and burst."""
        spec = limiter.spec
        if spec.excess == "wait":
            self.burst = transmission_time(spec.burst or waiting_burst(spec.rate), spec.rate)
        else:
            second = spec.second_burst if spec.peak is None else spec.second_burst or limiter.burst
            self.meter = ThreeColour(spec.rate, limiter.burst, second, spec.peak)

    def count(self, length: Size) -> None:
        """Count a packet that leaves for the line, if there is a quota."""
        account = self.account
        if account is not None:
            if account.forgotten and self.limiter.ledger is not None:
                account = self.account = self.limiter.ledger.account(account.key)
            account.count(length)

    def charge(self, size: Size, now: Nanoseconds, rate: Rate, waited: bool = False) -> None:
        """Count a packet that passes. One that has waited was ready before: if the caller is late, it is made good."""
        behind = now - (CATCH_UP if waited and self.burst < CATCH_UP else self.burst)
        self.clock = (self.clock if self.clock > behind else behind) + sending_time(size, rate)

    def draw(self, allowance: Allowance, now: Nanoseconds) -> Draw:
        """This bucket's use of an allowance."""
        if self.draws is None:
            self.draws = {}
        draw = self.draws.get(allowance)
        if draw is None:
            draw = self.draws[allowance] = Draw(now // SLOT)
        return draw

    def hold(self, queue: FqCodel, allowance: Allowance | None, now: Nanoseconds) -> None:
        """Queue packets from now on."""
        self.queue = queue
        self.held_by = allowance
        if allowance is not None:
            allowance.hold(self.draw(allowance, now), now, True)

    def let_go(self, now: Nanoseconds) -> None:
        """Nothing waits any more."""
        self.queue = None
        if self.held_by is not None:
            self.held_by.hold(self.draw(self.held_by, now), now, False)
            self.held_by = None


class Limiter:
    """A limiter in one direction. Buckets live as long as a conversation or a waiting packet refers to them.

    `active` is set from outside by the time of day; an inactive limiter matches no packet. `colours` counts green,
    yellow and red packets.
    """

    __slots__ = ("_allowances", "_buckets", "active", "burst", "colours", "drops", "ledger", "rate", "spec", "tally")

    def __init__(self, spec: LimiterSpec, ledger: Ledger | None = None) -> None:
        self.spec = spec
        self.rate = spec.rate
        self.burst = spec.burst or waiting_burst(spec.rate)
        self.active = True
        self.drops = 0
        self.colours = [0, 0, 0]
        self.tally = Tally()
        self.ledger = ledger
        self._buckets: WeakValueDictionary[bytes, Bucket] = WeakValueDictionary()
        self._allowances: dict[Onward, Allowance] = {}

    def __len__(self) -> int:
        return len(self._buckets)

    def reconfigure(self, other: "Limiter", now: Nanoseconds) -> bool:
        """Limit from now on as `other`, a new one, would; False where that has other buckets, or other meters."""
        spec = other.spec
        if (spec.per, spec.excess) != (self.spec.per, self.spec.excess) or (
            (self.ledger is None) != (other.ledger is None)
        ):
            return False
        if (spec.threshold, spec.rate) != (self.spec.threshold, self.spec.rate):
            self._allowances = {}
        if spec != self.spec:
            before = self.rate
            self.spec, self.rate, self.burst = spec, other.rate, other.burst
            for bucket in list(self._buckets.values()):
                bucket.clock = at_rate(bucket.clock, now, before, self.rate)
                bucket.measure(self)
        return True

    def bucket(self, conversation: Conversation, host: bytes = b"") -> Bucket:
        """The bucket that the conversation draws from, whose local host's address is `host`, if not its own."""
        key = self.spec.per.key(conversation, host or conversation.parties.local)
        bucket = self._buckets.get(key)
        if bucket is None:
            account = self.ledger.account(key) if self.ledger is not None else None
            bucket = self._buckets[key] = Bucket(self, account)
        return bucket

    def holds(self, bucket: Bucket) -> bool:
        """Whether the limiter currently applies to this bucket."""
        quota = self.spec.quota
        return quota is None or bucket.account is None or bucket.account.used >= quota

    def allowance(self, packet: Packet) -> Allowance | None:
        """What gives the rate on the packet's line; None where it is always the limiter's own."""
        threshold = self.spec.threshold
        if threshold is None:
            return None
        assert packet.flow_path is not None
        shaper = packet.flow_path.shaper
        allowance = self._allowances.get(shaper)
        if allowance is None:
            allowance = self._allowances[shaper] = Allowance(threshold, self.rate, shaper.watch_utilisation())
        return allowance

    def police(
        self, bucket: Bucket, meter: ThreeColour, packet: Packet, now: Nanoseconds, rate: Rate, by: Allowance | None
    ) -> bool:
        """Colour a packet by a meter at this rate; False if it must be dropped."""
        if by is not None:
            meter.go_at(rate)
        colour = meter.colour(packet.size, now)
        self.colours[colour] += 1
        if by is not None and colour != GREEN:
            by.hold(bucket.draw(by, now), now, False)
        if self.spec.excess == "mark":
            if colour != GREEN:
                packet.dscp = self.spec.dscp
            return True
        return colour != RED


def bucket_of(flow_path: FlowPath, stage: int) -> Bucket:
    """The bucket of a flow path after `stage` earlier limiters."""
    return cast(Bucket, flow_path.buckets[stage])


def limiters_of(flow_path: FlowPath) -> tuple[str, ...]:
    """The names of the limiters of a flow_path."""
    return tuple(bucket_of(flow_path, stage).limiter.spec.name for stage in range(len(flow_path.buckets)))
