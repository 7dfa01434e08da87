"""The chain that hands the packets of uplinks to the gate, and its removal.

The chain is at the end of FORWARD in the mangle table, for IPv4 and IPv6. In both directions, packets there have the
local host's own address, untranslated. Packets to this machine arrive from INPUT, its own packets from POSTROUTING,
where the outgoing interface is known. A verdict ends a packet's path through this table, so rules of others in these
chains are first. With `--queue-bypass`, packets pass while no gate reads the queue.

A packet that enters or leaves a tunnel of the plan is diverted at the tunnel's interface, outside the encapsulation.
Encapsulated packets, which this machine itself sends or receives, skip the gate by an earlier chain.

If the plan has routes, the first packet of a conversation is also queued at PREROUTING, or at OUTPUT, and gets its
uplink's mark there. Another chain saves the mark with the connection and restores it on later packets.

Packets between neighbours on the link never cross the line and are left alone.

A packet that needs an ECN mark (RFC 3168), or another DSCP, leaves the gate with that request in the highest byte of
the firewall mark. A second chain, at the end of POSTROUTING, writes the field and clears the byte, so the packet need
not be copied to the gate. This machine's own packets are in POSTROUTING already, and those to it in INPUT: they pass it
once more and leave at the end of that chain, before they would be queued again.

If the gate recognises conversations, their first packets use separate queues that copy them in full; the kernel's
connection tracking counts them. DNS and SIP always use these queues. A third chain, at OUTPUT, gives the gate this
machine's DNS answers to its hosts.
"""

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.process import remove_chains, run
from wily_sluice.units import Direction

CHAINS = CHAIN, MARKING_CHAIN, NAMES_CHAIN, WRAPPED_CHAIN, ROUTES_CHAIN, KEPT_CHAIN = (
    "SLUICE", "SLUICE-MARKS", "SLUICE-NAMES", "SLUICE-WRAPPED", "SLUICE-ROUTES", "SLUICE-KEPT"
)  # fmt: skip
# Of the kernel's 32-bit mark: whether a DSCP is to be written, whether congestion is, and which DSCP.
DSCP_BIT, CE_BIT, DSCP_SHIFT = 1 << 31, 1 << 30, 24
OURS = 0xFF << DSCP_SHIFT
TABLE = "mangle"
FAMILIES = ("iptables", "ip6tables")
OWN = ("-m", "addrtype", "--src-type", "LOCAL")  # sent by this machine
NEIGHBOURS = range(133, 138)  # ICMPv6: routers, neighbours and redirects (RFC 4861 §4)
ENDING = ("ACCEPT", "DROP", "RETURN")  # targets that end a packet's way through the table
FIRST_PACKETS = 48  # of a conversation, both ways together: as many as recognition looks at
TELLING_PORTS = (53, 5060)  # DNS, SIP


class Diverting(NamedTuple):
    """Which of the kernel's queues takes one direction of an interface, and which the openings of conversations."""

    interface: str
    direction: Direction
    number: int
    opening: int | None = None


class Wrapped(NamedTuple):
    """A tunnel's packets on the interface that carries it: their protocol, None for IP in IP; their ports, if any; and
    the far end, if known.
    """

    interface: str
    protocol: int | None
    ports: tuple[int, ...] = ()
    remotes: tuple[str, ...] = ()


class Steered(NamedTuple):
    """Conversations that routes choose an uplink for, and the queue for this: the interfaces of hosts, those of uplinks
    with their marks, and the bits of marks that are the gate's.
    """

    number: int
    inside: tuple[str, ...]
    uplinks: tuple[tuple[str, int], ...]
    mask: int


def rules(
    queues: Sequence[Diverting],
    names: int | None,
    marking: Iterable[int] | None,
    tunnels: Iterable[Wrapped] = (),
    steered: Steered | None = None,
    probed: Iterable[tuple[str, Sequence[str]]] = (),
) -> tuple[str, str]:
    """The contents of the chains, for IPv4 and for IPv6: divert packets that cross interfaces; copy this machine's DNS
    answers to queue `names`; write congestion marks and the DSCPs in `marking`, unless that is None; skip the wrapped
    packets of `tunnels`; have routes choose for `steered`; and let this machine's probes of the remotes on the
    interfaces in `probed` wait for the line alone.
    """
    dscps = sorted(set(marking)) if marking is not None else None
    wrapped = [[words for tunnel in tunnels for words in _wrapped(tunnel, six)] for six in (False, True)]
    for interface, remotes in probed:
        for remote in remotes:
            wrapped[":" in remote] += _probes(interface, remote)
    if steered is not None:
        wrapped = [[*rule, *_steered(steered)] for rule in wrapped]
    return _rules(queues, names, dscps, wrapped[0]), _rules(queues, names, dscps, _on_the_link() + wrapped[1])


def _steered(steered: Steered) -> Iterator[tuple[str, ...]]:
    """Sends the first packets of conversations to a queue, and restores the mark of later ones."""
    part = f"{steered.mask:#x}"
    ask = ("-m", "conntrack", "--ctstate", "NEW", *_queue(steered.number))
    known = ("-m", "connmark", "!", "--mark", f"0x0/{part}")
    first = ("-A", ROUTES_CHAIN)
    yield (*first, "-m", "mark", "!", "--mark", "0x0", "-j", "RETURN")  # others route it already
    yield (*first, *known, "-j", "CONNMARK", "--restore-mark", "--nfmask", part, "--ctmask", part)
    yield (*first, "-m", "mark", "!", "--mark", f"0x0/{part}", "-j", "RETURN")
    yield (*first, "-m", "addrtype", "--dst-type", "MULTICAST", "-j", "RETURN")
    for interface, mark in steered.uplinks:
        # What comes by an uplink is answered by it.
        begun = ("-i", interface, "-m", "conntrack", "--ctstate", "NEW")
        yield (*first, *begun, "-j", "CONNMARK", "--set-xmark", f"{mark:#x}/{part}")
        yield (*first, "-o", interface, *ask)
    for interface in steered.inside:
        yield (*first, "-i", interface, "-m", "addrtype", "!", "--dst-type", "LOCAL", *ask)
    marked = ("-m", "mark", "!", "--mark", f"0x0/{part}", "-m", "connmark", "--mark", f"0x0/{part}")
    yield ("-A", KEPT_CHAIN, *marked, "-j", "CONNMARK", "--save-mark", "--nfmask", part, "--ctmask", part)


def _wrapped(tunnel: Wrapped, six: bool) -> Iterator[tuple[str, ...]]:
    """The rules that let a tunnel's encapsulated packets skip the gate, over IPv4 or IPv6."""
    remotes = [remote for remote in tunnel.remotes if (":" in remote) == six]
    if tunnel.remotes and not remotes:
        return
    ports = ("-m", "multiport", "--ports", ",".join(map(str, tunnel.ports))) if tunnel.ports else ()
    protocols = (4, 41) if tunnel.protocol is None else (tunnel.protocol,)
    for way, end in (("-o", "-d"), ("-i", "-s")):
        for protocol in protocols:
            for remote in remotes or ("",):
                far = (end, remote) if remote else ()
                what = ("-p", str(protocol), *far, *ports, "-j", "ACCEPT")
                yield ("-A", WRAPPED_CHAIN, way, tunnel.interface, *what)


def _probes(interface: str, remote: str) -> Iterator[tuple[str, ...]]:
    """The rules that let this machine's echoes to a remote, and their answers, skip the gate: no more than there are,
    whoever writes the remote's address.
    """
    protocol, kind, (asks, answers) = (
        ("ipv6-icmp", "--icmpv6-type", ("128", "129")) if ":" in remote else ("icmp", "--icmp-type", ("8", "0"))
    )
    few = ("-m", "limit", "--limit", "100/second", "--limit-burst", "100", "-j", "ACCEPT")
    yield ("-A", WRAPPED_CHAIN, "-o", interface, "-p", protocol, "-d", remote, kind, asks, *OWN, *few)
    yield ("-A", WRAPPED_CHAIN, "-i", interface, "-p", protocol, "-s", remote, kind, answers, *few)


def _on_the_link() -> list[tuple[str, ...]]:
    """The rules that leave link-local IPv6 alone."""
    neighbour_discovery = [("-p", "ipv6-icmp", "--icmpv6-type", str(kind)) for kind in NEIGHBOURS]
    return [("-A", CHAIN, *part, "-j", "RETURN") for part in (*neighbour_discovery, ("-d", "ff02::/16"))]


def tracks(contents: str) -> bool:
    """Whether rules want connections tracked."""
    return any(f"-m {match} " in contents for match in ("conntrack", "connbytes", "connmark"))


def tracking(contents: str) -> str:
    """The same, with a rule that wants connections tracked and does nothing. When the last such rule goes, the kernel
    drops all packets that wait in queues.
    """
    return f"{contents}\n-A {KEPT_CHAIN} -m conntrack --ctstate NEW -j RETURN"


def _rules(
    queues: Sequence[Diverting], names: int | None, marking: list[int] | None, left: Iterable[tuple[str, ...]]
) -> str:
    lines = [f":{chain} - [0:0]" for chain in CHAINS]
    lines += [" ".join(words) for words in left]
    for interface, direction, number, opening in queues:
        way = ("-A", CHAIN, "-o" if direction == "up" else "-i", interface)
        if opening is not None:
            lines += [" ".join((*way, *part, *_queue(opening))) for part in _new_flows()]
        lines.append(" ".join((*way, *_queue(number))))
    if names is not None:
        lines.append(" ".join(("-A", NAMES_CHAIN, *_queue(names))))
    if marking is not None:
        lines += [" ".join(("-A", MARKING_CHAIN, *line)) for line in _writing(marking)]
    return "\n".join(lines)


def put(contents: tuple[str, str], first: bool = False) -> None:
    """Load the chains that `rules` made, in one step for each of IPv4 and IPv6; `first` also leads packets there.

    LiveError when the system refuses: then nothing is left behind the first time; later, the old rules stay for IPv4
    or for both.
    """
    try:
        for family, own in zip(FAMILIES, contents, strict=True):
            jumps = [" ".join(("-A", *jump)) for jump in _jumps()] if first else []
            text = "\n".join((f"*{TABLE}", own, *jumps, "COMMIT", ""))
            run([f"{family}-restore", "-w", "--noflush"], stdin=text)
    except LiveError as error:
        if first:
            with suppress(LiveError):
                remove()
        if "NFQUEUE" in str(error):
            raise LiveError(f"the kernel lacks the packet queue (NFQUEUE), which the gate needs; {error}") from None
        raise


class ChainState(NamedTuple):
    """The state of the chains: `missing` are own rules that were removed, `before` rules of others ahead that accept or
    drop packets, so that these are not shaped.
    """

    missing: tuple[str, ...]
    before: tuple[str, ...]


def examine(contents: tuple[str, str]) -> ChainState:
    """Check whether the chains still have these contents, as `put` left them. LiveError when that cannot be seen."""
    missing, before = [], []
    for family, own in zip(FAMILIES, contents, strict=True):
        lines = run([f"{family}-save", "-t", TABLE]).stdout.splitlines()
        for jump in _jumps():
            chain, target = jump[0], jump[-1]
            there = [line for line in lines if line.startswith(f"-A {chain} ")]
            index = next((n for n, line in enumerate(there) if line.endswith(f" -j {target}")), None)
            if index is None:
                missing.append(f"{family}: the jump from {chain} to {target}")
            elif target == CHAIN:
                before += [f"{family}: {line}" for line in there[:index] if line.split()[-1] in ENDING]
        for chain in CHAINS:
            wanted = sum(line.startswith(f"-A {chain} ") for line in own.splitlines())
            if sum(line.startswith(f"-A {chain} ") for line in lines) != wanted:
                missing.append(f"{family}: rules of {chain}")
    return ChainState(tuple(missing), tuple(before))


def repair(contents: tuple[str, str]) -> None:
    """Restore the chains in any state. LiveError if the system refuses."""
    for family in FAMILIES:
        for jump in _jumps():
            while _table(family, "-D", *jump, check=False):
                pass
    put(contents, first=True)


def _queue(number: int) -> tuple[str, ...]:
    return ("-j", "NFQUEUE", "--queue-num", str(number), "--queue-bypass")


def _new_flows() -> list[tuple[str, ...]]:
    counted = ("-m", "connbytes", "--connbytes", f"0:{FIRST_PACKETS}", "--connbytes-mode", "packets")
    parts = [(*counted, "--connbytes-dir", "both")]
    ports = ",".join(map(str, TELLING_PORTS))
    return [*parts, *(("-p", protocol, "-m", "multiport", "--ports", ports) for protocol in ("udp", "tcp"))]


def can_count() -> bool:
    """Whether this machine can count the packets of a conversation."""
    return _can(_new_flows())


def can_write() -> bool:
    """Whether it can write the ECN field and DSCP of packets that it forwards."""
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
    """A request to write congestion and a DSCP, as bits of the kernel's mark; -1 for no DSCP."""
    return (CE_BIT if congestion else 0) | (DSCP_BIT | dscp << DSCP_SHIFT if dscp >= 0 else 0)


def _writing(dscps: Iterable[int]) -> list[tuple[str, ...]]:
    lines: list[tuple[str, ...]] = [
        ("-m", "mark", "--mark", f"{CE_BIT:#x}/{CE_BIT:#x}", "-j", "TOS", "--set-tos", "0x03/0x03")
    ]
    for dscp in sorted(set(dscps)):
        marked = f"{wishes(False, dscp):#x}/{OURS & ~CE_BIT:#x}"
        lines.append(("-m", "mark", "--mark", marked, "-j", "TOS", "--set-tos", f"{dscp << 2:#x}/0xfc"))
    lines.append(("-j", "MARK", "--set-xmark", f"0x0/{OURS:#x}"))
    lines.append((*OWN, "-j", "ACCEPT"))
    lines.append(("-m", "addrtype", "--dst-type", "LOCAL", "-j", "ACCEPT"))
    return lines


def remove() -> bool:
    """Remove the chains or their remains. True if there was something to remove. LiveError on refusal."""
    removed = [remove_chains(family, TABLE, CHAINS) for family in FAMILIES]
    return any(removed)


def _jumps() -> list[tuple[str, ...]]:
    """The rules that jump to the chains."""
    wished = f"0x0/{DSCP_BIT | CE_BIT:#x}"
    return [
        ("POSTROUTING", "-m", "mark", "!", "--mark", wished, "-j", MARKING_CHAIN),
        ("PREROUTING", "-j", ROUTES_CHAIN),
        ("OUTPUT", "-j", ROUTES_CHAIN),
        ("OUTPUT", "-p", "udp", "--sport", "53", "-j", NAMES_CHAIN),
        ("POSTROUTING", "-j", KEPT_CHAIN),
        ("POSTROUTING", "-j", WRAPPED_CHAIN),
        ("INPUT", "-j", WRAPPED_CHAIN),
        ("INPUT", "-m", "mark", "!", "--mark", wished, "-j", MARKING_CHAIN),
        ("POSTROUTING", *OWN, "-j", CHAIN),
        ("INPUT", "-j", CHAIN),
        ("FORWARD", "-j", CHAIN),
    ]


def _table(family: str, *words: str, check: bool = True) -> bool:
    """Run one command on the table; whether it succeeded. LiveError when it did not and `check` is set."""
    return run([family, "-w", "-t", TABLE, *words], check=check).returncode == 0
