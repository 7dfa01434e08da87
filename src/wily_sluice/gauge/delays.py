"""Results of test packets: round trips, jitter in each direction, and loss in each direction."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from wily_sluice.gauge.stamp import Reflected
from wily_sluice.units import Nanoseconds


@dataclass(frozen=True, slots=True)
class Answered:
    """A packet that came back, and when it came, by the sender's clock."""

    packet: Reflected
    came: Nanoseconds

    @property
    def round_trip(self) -> Nanoseconds:
        """Without the time that the far end took. No clock need be set for it: each difference is of one clock."""
        return (self.came - self.packet.sender_at) - (self.packet.at - self.packet.received)


@dataclass(frozen=True, slots=True)
class Delays:
    """Round trips in ns; `jitter` up and down is the mean difference between one packet and the next (RFC 3393, of
    consecutive packets); `lost` up and down are packets. All None where nothing came back.
    """

    sent: int
    answered: int
    least: float | None
    p50: float | None
    p95: float | None
    p99: float | None
    jitter_up: float | None
    jitter_down: float | None
    lost_up: int | None
    lost_down: int | None


def delays(sent: int, answers: Sequence[Answered]) -> Delays:
    """Of so many packets that were sent. Answers that came twice count once."""
    unique = {one.packet.sender_sequence: one for one in answers}
    found = [unique[number] for number in sorted(unique)]
    if not found:
        return Delays(sent, 0, None, None, None, None, None, None, None, None)
    trips = np.array([one.round_trip for one in found], dtype=np.float64)
    p50, p95, p99 = np.percentile(trips, (50, 95, 99)).tolist()
    # The far end numbers what comes to it: what it did not number was lost on the way there.
    arrived = max(one.packet.sequence for one in found) + 1
    return Delays(
        sent,
        len(found),
        float(trips.min()),
        p50,
        p95,
        p99,
        _jitter([one.packet.received - one.packet.sender_at for one in found]),
        _jitter([one.came - one.packet.at for one in found]),
        max(0, sent - max(arrived, len(found))),
        max(0, max(arrived, len(found)) - len(found)),
    )


def delays_within(answers: Sequence[Answered]) -> Delays | None:
    """Of packets that were sent one after another, in the midst of others; None of none."""
    if not answers:
        return None
    first = min(one.packet.sender_sequence for one in answers)
    came = min(one.packet.sequence for one in answers)
    found = [
        replace(
            one,
            packet=one.packet._replace(
                sender_sequence=one.packet.sender_sequence - first, sequence=max(0, one.packet.sequence - came)
            ),
        )
        for one in answers
    ]
    return delays(max(one.packet.sender_sequence for one in found) + 1, found)


def _jitter(ways: Sequence[Nanoseconds]) -> float | None:
    """The mean difference of consecutive delays one way: by how much two clocks differ does not matter."""
    if len(ways) < 2:
        return None
    return float(np.abs(np.diff(np.array(ways, dtype=np.float64))).mean())
