"""Keeps the processors of a virtual machine awake while a rig is up.

A host may take an idle virtual processor away and return it milliseconds late; the rig would then measure the host. One
process for each processor, which runs only when the processor would be idle. Real machines do not need it.

python -m wily_sluice.rig.awake_program
"""

import os
from pathlib import Path

from wily_sluice.gate.kernel.process import run_when_idle


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
