"""The scheduling priority of a process: a process that holds packets must not itself be delayed."""

import contextlib
import os


def run_before_others() -> None:
    """Take a real-time priority, the lowest there is, where the system allows it.

    The kernel keeps a part of every second for the others (sched_rt_runtime_us), so a busy gate does not lock the
    machine up; and a real-time process is woken without the slack that others' timers have.
    """
    with contextlib.suppress(OSError):
        lowest = os.sched_param(os.sched_get_priority_min(os.SCHED_RR))
        os.sched_setscheduler(0, os.SCHED_RR | os.SCHED_RESET_ON_FORK, lowest)  # what it starts is as all others


def run_when_idle() -> None:
    """Run only where a processor would have nothing else to do."""
    os.sched_setscheduler(0, os.SCHED_IDLE, os.sched_param(0))
