"""Virtual clocks: how far a packet moves one on, and what becomes of one under a change of rate.

A cap, a guarantee, a limiter and the line each have a clock that a packet moves on by its own time at their rate.
How far it is ahead of now is what was sent beyond the rate, in time; when the rate changes, the same bytes are another
time. Without that, what was held to 1 kbit/s would stand still for seconds after it is let go.

Compiled, this is arithmetic of the machine's own 64-bit integers: sizes are below a megabyte, times below a century.
"""

from mypy_extensions import i64

from wily_sluice.units import BYTE_TIME, Nanoseconds, Rate


def sending_time(size: i64, rate: i64) -> i64:
    """How long `size` bytes take at `rate` bit/s, rounded down to the nanosecond."""
    return size * BYTE_TIME // rate


def at_rate(clock: Nanoseconds, now: Nanoseconds, before: Rate, after: Rate) -> Nanoseconds:
    """A clock that ran at rate `before`, converted to rate `after`; 0 means no rate. One behind `now` is left alone."""
    if clock <= now:
        return clock
    return now + (clock - now) * before // after if after else now
