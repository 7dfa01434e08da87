"""The chain that hands forwarded packets to the gate, and its removal.

The chain stands at the end of FORWARD in the mangle table, for IPv4 and IPv6: there both directions still carry the
local host's own address, before or after any translation. A verdict ends a packet's way through this table, so what
others have put into the chain before runs first. `--queue-bypass` lets packets flow while no gate reads the queue.

A packet whose ECN field is to tell of congestion (RFC 3168), or that is to have another DSCP, leaves the gate with
that wish in the highest byte of the kernel's mark, and a second chain, at the end of POSTROUTING, writes the field and
clears the byte. So no packet need be copied to the gate for its sake.
"""

from collections.abc import Iterable, Sequence

from wily_sluice.gate.command import run
from wily_sluice.gate.errors import LiveError
from wily_sluice.units import Direction

CHAIN, MARKING_CHAIN = "SLUICE", "SLUICE-MARKS"
# Of the kernel's 32-bit mark: whether a DSCP is to be written, whether congestion is, and which DSCP.
DSCP_BIT, CE_BIT, DSCP_SHIFT = 1 << 31, 1 << 30, 24
OURS = 0xFF << DSCP_SHIFT
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


def wishes(congestion: bool, dscp: int) -> int:
    """What is to be written on a packet, as bits of the kernel's mark; -1 for no DSCP."""
    return (CE_BIT if congestion else 0) | (DSCP_BIT | dscp << DSCP_SHIFT if dscp >= 0 else 0)


def insert_marking(dscps: Iterable[int]) -> bool:
    """Have written what the gate asks for: congestion, and these DSCPs. False where this machine cannot."""
    try:
        for family in FAMILIES:
            _table(family, "-N", MARKING_CHAIN)
            for dscp in sorted(set(dscps)):
                marked = f"{wishes(False, dscp):#x}/{OURS & ~CE_BIT:#x}"
                target = ["-j", "TOS", "--set-tos", f"{dscp << 2:#x}/0xfc"]
                _table(family, "-A", MARKING_CHAIN, "-m", "mark", "--mark", marked, *target)
            congestion = ["-m", "mark", "--mark", f"{CE_BIT:#x}/{CE_BIT:#x}", "-j", "TOS", "--set-tos", "0x03/0x03"]
            _table(family, "-A", MARKING_CHAIN, *congestion)
            _table(family, "-A", MARKING_CHAIN, "-j", "MARK", "--set-xmark", f"0x0/{OURS:#x}")
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


_TO_MARKING = (
    "POSTROUTING", "-m", "mark", "!", "--mark", f"0x0/{DSCP_BIT | CE_BIT:#x}", "-j", MARKING_CHAIN,
)  # fmt: skip


def _table(family: str, *words: str, check: bool = True) -> bool:
    """Run one command on the table; whether it succeeded. LiveError when it did not and `check` is set."""
    return run([family, "-w", "-t", TABLE, *words], check=check).returncode == 0
