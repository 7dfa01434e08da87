"""The chain that hands forwarded packets to the gate, and its removal.

The chain stands at the end of FORWARD in the mangle table, for IPv4 and IPv6: there both directions still carry the
local host's own address, before or after any translation. A verdict ends a packet's way through this table, so what
others have put into the chain before runs first. `--queue-bypass` lets packets flow while no gate reads the queue.
"""

from collections.abc import Sequence

from wily_sluice.gate.command import run
from wily_sluice.gate.errors import LiveError
from wily_sluice.units import Direction

CHAIN = "SLUICE"
TABLE = "mangle"
FAMILIES = ("iptables", "ip6tables")


def insert(queues: Sequence[tuple[str, Direction, int]]) -> None:
    """Divert what an uplink's interface forwards; `queues` are interface, direction and queue number.

    LiveError when the system refuses; then nothing is left behind.
    """
    try:
        for family in FAMILIES:
            run([family, "-w", "-t", TABLE, "-N", CHAIN])
            for interface, direction, number in queues:
                way = "-o" if direction == "up" else "-i"
                target = ["-j", "NFQUEUE", "--queue-num", str(number), "--queue-bypass"]
                run([family, "-w", "-t", TABLE, "-A", CHAIN, way, interface, *target])
            run([family, "-w", "-t", TABLE, "-A", "FORWARD", "-j", CHAIN])
    except LiveError as error:
        remove()
        if "NFQUEUE" in str(error):
            raise LiveError(f"the kernel lacks the packet queue (NFQUEUE), which the gate needs; {error}") from None
        raise


def remove() -> bool:
    """Take the chain away, whatever of it is there. True when there was something to take."""
    found = False
    for family in FAMILIES:
        found = run([family, "-w", "-t", TABLE, "-S", CHAIN], check=False).returncode == 0 or found
        while run([family, "-w", "-t", TABLE, "-D", "FORWARD", "-j", CHAIN], check=False).returncode == 0:
            pass
        run([family, "-w", "-t", TABLE, "-F", CHAIN], check=False)
        run([family, "-w", "-t", TABLE, "-X", CHAIN], check=False)
    return found
