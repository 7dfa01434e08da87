"""Keeps the processors of a virtual machine awake while a rig is up.

A virtual processor that has nothing to do is given back to the host, and may get it again only milliseconds later;
what the rig would then measure is the host. One process a processor, each running only where the processor would be
idle. Needed on no real machine.

    python -m wily_sluice.rig.awake_program
"""

import os
from pathlib import Path

from wily_sluice.gate.kernel.urgency import run_when_idle


def on_virtual_machine() -> bool:
    """Whether the processors are virtual ones."""
    return "hypervisor" in Path("/proc/cpuinfo").read_text().split()


def main() -> None:
    """Spin, on every processor."""
    run_when_idle()
    print("ready", flush=True)
    for processor in sorted(os.sched_getaffinity(0))[1:]:
        if os.fork() == 0:
            os.sched_setaffinity(0, {processor})
            break
    else:
        os.sched_setaffinity(0, {min(os.sched_getaffinity(0))})
    while True:
        pass


if __name__ == "__main__":
    main()
