"""Virtual clocks: their advance by packets, and changes of rate.

Caps, guarantees, limiters and lines each have a clock. A packet advances it by its transmission time at their rate. The
clock's lead over now is the excess, in time. When the rate changes, the lead is rescaled to the same bytes at the new
rate. Otherwise a queue held to 1 kbit/s would be blocked for seconds after its release.

Compiled, this uses 64-bit machine integers: sizes are below a megabyte, times below a century.
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
