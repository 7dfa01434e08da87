"""The chain that hands forwarded packets to the gate, and its removal.

The chain stands at the end of FORWARD in the mangle table, for IPv4 and IPv6: there both directions still carry the
local host's own address, before or after any translation. A verdict ends a packet's way through this table, so what
others have put into the chain before runs first. `--queue-bypass` lets packets flow while no gate reads the queue.

A packet whose ECN field is to tell of congestion (RFC 3168), or that is to have another DSCP, leaves the gate with
that wish in the highest byte of the kernel's mark, and a second chain, at the end of POSTROUTING, writes the field and
clears the byte. So no packet need be copied to the gate for its sake.

Where the gate is to recognise conversations, the first packets of each go to a queue of their own, from which they are
copied whole; the kernel's tracking of connections counts them. What names and calls are asked for on (DNS, SIP) always
goes there. A third chain, at OUTPUT, shows the gate what this machine itself answers to questions of DNS.
"""

from collections.abc import Iterable, Sequence
from contextlib import suppress
from typing import NamedTuple

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.command import run
from wily_sluice.units import Direction

CHAINS = CHAIN, MARKING_CHAIN, NAMES_CHAIN, HEALTH_CHAIN = "SLUICE", "SLUICE-MARKS", "SLUICE-NAMES", "SLUICE-HEALTH"
# Of the kernel's 32-bit mark: whether a DSCP is to be written, whether congestion is, and which DSCP.
DSCP_BIT, CE_BIT, DSCP_SHIFT = 1 << 31, 1 << 30, 24
OURS = 0xFF << DSCP_SHIFT
TABLE = "mangle"
FAMILIES = ("iptables", "ip6tables")
ENDING = ("ACCEPT", "DROP", "RETURN")  # targets after which a packet of FORWARD does not come to rules behind
FIRST_PACKETS = 48  # of a conversation, both ways together: as many as recognition looks at
TELLING_PORTS = (53, 5060)  # DNS, SIP


class Diverting(NamedTuple):
    """Which of the kernel's queues takes one direction of an interface, and which the openings of conversations."""

    interface: str
    direction: Direction
    number: int
    opening: int | None = None


def rules(
    queues: Sequence[Diverting], names: int | None, marking: Iterable[int] | None, health: Iterable[str] = ()
) -> tuple[str, str]:
    """What the chains are to hold, for IPv4 and for IPv6: divert what interfaces forward; show queue `names` the
    answers of DNS that this machine gives; have written what the gate asks for, congestion and the DSCPs in `marking`,
    unless that is None; divert the echoes that this machine itself has from the remotes in `health`.
    """
    dscps = sorted(set(marking)) if marking is not None else None
    remotes = sorted(set(health))
    v4, v6 = (_rules(queues, names, dscps, [r for r in remotes if (":" in r) == six]) for six in (False, True))
    return v4, v6


def _rules(queues: Sequence[Diverting], names: int | None, marking: list[int] | None, health: list[str]) -> str:
    lines = [f":{chain} - [0:0]" for chain in CHAINS]
    for interface, direction, number, opening in queues:
        way = ("-A", CHAIN, "-o" if direction == "up" else "-i", interface)
        if opening is not None:
            lines += [" ".join((*way, *part, *_queue(opening))) for part in _openings()]
        lines.append(" ".join((*way, *_queue(number))))
        end = "-d" if direction == "up" else "-s"
        lines += [" ".join(("-A", HEALTH_CHAIN, *way[2:], end, remote, *_queue(number))) for remote in health]
    if names is not None:
        lines.append(" ".join(("-A", NAMES_CHAIN, *_queue(names))))
    if marking is not None:
        lines += [" ".join(("-A", MARKING_CHAIN, *line)) for line in _writing(marking)]
    return "\n".join(lines)


def put(contents: tuple[str, str], first: bool = False) -> None:
    """Load the chains that `rules` made, in one step for each of IPv4 and IPv6; `first` also leads packets there.

    LiveError when the system refuses; then nothing is left behind if it is the first time, and nothing changed for
    IPv4 or for both if it is not.
    """
    try:
        for family, own in zip(FAMILIES, contents, strict=True):
            jumps = [" ".join(("-A", *jump)) for jump in _jumps(family)] if first else []
            text = "\n".join((f"*{TABLE}", own, *jumps, "COMMIT", ""))
            run([f"{family}-restore", "-w", "--noflush"], stdin=text)
    except LiveError as error:
        if first:
            with suppress(LiveError):
                remove()
        if "NFQUEUE" in str(error):
            raise LiveError(f"the kernel lacks the packet queue (NFQUEUE), which the gate needs; {error}") from None
        raise


class Standing(NamedTuple):
    """The state of the chains: `missing` rules of ours that were removed, `before` rules that others put before them
    and that end a packet's way, so that it is not shaped.
    """

    missing: tuple[str, ...]
    before: tuple[str, ...]


def examine(contents: tuple[str, str]) -> Standing:
    """Look whether the chains are as `put` left them, of these contents. LiveError when that cannot be seen."""
    missing, before = [], []
    for family, own in zip(FAMILIES, contents, strict=True):
        lines = run([f"{family}-save", "-t", TABLE]).stdout.splitlines()
        for jump in _jumps(family):
            chain, target = jump[0], jump[-1]
            there = [line for line in lines if line.startswith(f"-A {chain} ")]
            index = next((n for n, line in enumerate(there) if line.endswith(f" -j {target}")), None)
            if index is None:
                missing.append(f"{family}: the jump from {chain} to {target}")
            elif chain == "FORWARD":
                before += [f"{family}: {line}" for line in there[:index] if line.split()[-1] in ENDING]
        for chain in CHAINS:
            wanted = sum(line.startswith(f"-A {chain} ") for line in own.splitlines())
            if sum(line.startswith(f"-A {chain} ") for line in lines) != wanted:
                missing.append(f"{family}: rules of {chain}")
    return Standing(tuple(missing), tuple(before))


def repair(contents: tuple[str, str]) -> None:
    """Put the chains there anew, whatever is left of them. LiveError when the system refuses."""
    for family in FAMILIES:
        for jump in _jumps(family):
            while _table(family, "-D", *jump, check=False):
                pass
    put(contents, first=True)


def _queue(number: int) -> tuple[str, ...]:
    return ("-j", "NFQUEUE", "--queue-num", str(number), "--queue-bypass")


def _openings() -> list[tuple[str, ...]]:
    counted = ("-m", "connbytes", "--connbytes", f"0:{FIRST_PACKETS}", "--connbytes-mode", "packets")
    parts = [(*counted, "--connbytes-dir", "both")]
    ports = ",".join(map(str, TELLING_PORTS))
    return [*parts, *(("-p", protocol, "-m", "multiport", "--ports", ports) for protocol in ("udp", "tcp"))]


def can_count() -> bool:
    """Whether this machine can tell the first packets of a conversation from the others."""
    return _can(_openings())


def can_write() -> bool:
    """Whether it can write the ECN field and DSCPs of what it forwards."""
    return _can([_writing(())[0]])


def _can(parts: Sequence[tuple[str, ...]]) -> bool:
    chain = f"{CHAIN}-PROBE"
    try:
        return all(
            _table(family, "-N", chain, check=False)
            and all(_table(family, "-A", chain, *part, check=False) for part in parts)
            for family in FAMILIES
        )
    finally:
        for family in FAMILIES:
            _table(family, "-F", chain, check=False)
            _table(family, "-X", chain, check=False)


def wishes(congestion: bool, dscp: int) -> int:
    """What is to be written on a packet, as bits of the kernel's mark; -1 for no DSCP."""
    return (CE_BIT if congestion else 0) | (DSCP_BIT | dscp << DSCP_SHIFT if dscp >= 0 else 0)


def _writing(dscps: Iterable[int]) -> list[tuple[str, ...]]:
    lines: list[tuple[str, ...]] = [
        ("-m", "mark", "--mark", f"{CE_BIT:#x}/{CE_BIT:#x}", "-j", "TOS", "--set-tos", "0x03/0x03")
    ]
    for dscp in sorted(set(dscps)):
        marked = f"{wishes(False, dscp):#x}/{OURS & ~CE_BIT:#x}"
        lines.append(("-m", "mark", "--mark", marked, "-j", "TOS", "--set-tos", f"{dscp << 2:#x}/0xfc"))
    lines.append(("-j", "MARK", "--set-xmark", f"0x0/{OURS:#x}"))
    return lines


def remove() -> bool:
    """Take the chains away, whatever of them is there. True when there was something to take."""
    found = False
    for family in FAMILIES:
        for jump in _jumps(family):
            while _table(family, "-D", *jump, check=False):
                pass
        for chain in CHAINS:
            found = _table(family, "-S", chain, check=False) or found
            _table(family, "-F", chain, check=False)
            _table(family, "-X", chain, check=False)
    return found


def _jumps(family: str) -> list[tuple[str, ...]]:
    """What leads to the chains."""
    protocol, kind = ("icmp", "--icmp-type") if family == "iptables" else ("ipv6-icmp", "--icmpv6-type")
    wished = f"0x0/{DSCP_BIT | CE_BIT:#x}"
    return [
        ("POSTROUTING", "-m", "mark", "!", "--mark", wished, "-j", MARKING_CHAIN),
        ("OUTPUT", "-p", "udp", "--sport", "53", "-j", NAMES_CHAIN),
        ("OUTPUT", "-p", protocol, kind, "echo-request", "-j", HEALTH_CHAIN),
        ("INPUT", "-p", protocol, kind, "echo-reply", "-j", HEALTH_CHAIN),
        ("FORWARD", "-j", CHAIN),
    ]


def _table(family: str, *words: str, check: bool = True) -> bool:
    """Run one command on the table; whether it succeeded. LiveError when it did not and `check` is set."""
    return run([family, "-w", "-t", TABLE, *words], check=check).returncode == 0
