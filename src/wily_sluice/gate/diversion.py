"""The chain that hands forwarded packets to the gate, and its removal.

The chain stands at the end of FORWARD in the mangle table, for IPv4 and IPv6: there both directions still carry the
local host's own address, before or after any translation. A verdict ends a packet's way through this table, so what
others have put into the chain before runs first. `--queue-bypass` lets packets flow while no gate reads the queue.
"""

from collections.abc import Sequence

from wily_sluice.gate.command import run
from wily_sluice.gate.errors import LiveError
from wily_sluice.units import Direction

CHAIN, MARKING_CHAIN = "SLUICE", "SLUICE-CE"
CE_BIT = 1 << 30  # of the kernel's 32-bit mark
TABLE = "mangle"
FAMILIES = ("iptables", "ip6tables")


def insert(queues: Sequence[tuple[str, Direction, int]]) -> None:
    """Divert what an uplink's interface forwards; `queues` are interface, direction and queue number.

    LiveError when the system refuses; then nothing is left behind.
    """
    try:
        for family in FAMILIES:
            _table(family, "-N", CHAIN)
            for interface, direction, number in queues:
                way = "-o" if direction == "up" else "-i"
                target = ["-j", "NFQUEUE", "--queue-num", str(number), "--queue-bypass"]
                _table(family, "-A", CHAIN, way, interface, *target)
            _table(family, "-A", "FORWARD", "-j", CHAIN)
    except LiveError as error:
        remove()
        if "NFQUEUE" in str(error):
            raise LiveError(f"the kernel lacks the packet queue (NFQUEUE), which the gate needs; {error}") from None
        raise


def insert_marking() -> bool:
    """Have the ECN field written where the gate asks for it. False where this machine cannot: then it drops instead."""
    try:
        for family in FAMILIES:
            _table(family, "-N", MARKING_CHAIN)
            _table(family, "-A", MARKING_CHAIN, "-j", "TOS", "--set-tos", "0x03/0x03")
            _table(family, "-A", MARKING_CHAIN, "-j", "MARK", "--set-xmark", f"0x0/{CE_BIT:#x}")
            _table(family, "-A", *_TO_MARKING)
    except LiveError:
        remove()
        return False
    return True


def remove() -> bool:
    """Take the chains away, whatever of them is there. True when there was something to take."""
    found = False
    for family in FAMILIES:
        for chain, jump in ((CHAIN, ("FORWARD", "-j", CHAIN)), (MARKING_CHAIN, _TO_MARKING)):
            found = _table(family, "-S", chain, check=False) or found
            while _table(family, "-D", *jump, check=False):
                pass
            _table(family, "-F", chain, check=False)
            _table(family, "-X", chain, check=False)
    return found


_TO_MARKING = ("POSTROUTING", "-m", "mark", "--mark", f"{CE_BIT:#x}/{CE_BIT:#x}", "-j", MARKING_CHAIN)


def _table(family: str, *words: str, check: bool = True) -> bool:
    """Run one command on the table; whether it succeeded. LiveError when it did not and `check` is set."""
    return run([family, "-w", "-t", TABLE, *words], check=check).returncode == 0
