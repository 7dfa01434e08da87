"""The machine as a whole: its processors, its clock, its tables."""

from collections.abc import Iterator

from wily_sluice.doctor.check import Change, Check, Facts, Found, setting
from wily_sluice.doctor.features import BYPASSING, path_of
from wily_sluice.outside.machine import COST_UNCOMPILED, remedy
from wily_sluice.plan.model import Plan

PER_HOST = 256  # conversations that a host may well have open
FEWEST = 16_384
MOST_HOSTS = 256  # of a network, of which it is taken that they may be there
ENOUGH = 0.7  # of what the gate carries
LIMIT, COUNT = "net/netfilter/nf_conntrack_max", "net/netfilter/nf_conntrack_count"


def _one_core(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.cores < 2:
        message = "there is one processor, which the gate shares with all else"
        yield Found("processors", message, "measure its capacity: `sluice gate cost`")


def _out_of_step(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.in_step is False and (plan.schedules or any(limiter.quota for limiter in plan.limiters)):
        message = "the clock is not kept in step, and the plan has schedules or quotas"
        yield Found("clock", message, "start a time service (NTP, RFC 5905)")


def _small_table(plan: Plan, facts: Facts) -> Iterator[Found]:
    limit, count = facts.number(LIMIT), facts.number(COUNT)
    if limit is None:
        return
    hosts = sum(min(MOST_HOSTS, network.addresses.size) for network in plan.networks)
    wanted = max(FEWEST, hosts * PER_HOST)
    wanted = 1 << (wanted - 1).bit_length()
    if limit < wanted // 2 or (count is not None and count > 0.85 * limit):
        used = f", of which {count:,} are used" if count else ""
        message = f"the table of connections has room for {limit:,}{used}; {hosts:,} hosts may well need {wanted:,}"
        yield Found(
            "connections", message, f"set {setting(LIMIT, '').setting} to {wanted}", (setting(LIMIT, str(wanted)),)
        )


def _core_full(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.busy is not None and facts.busy > ENOUGH:
        message = f"full uplinks need {facts.busy:.0%} of the gate's measured capacity here"
        yield Found("processors", message, "a faster machine, or slower lines; `sluice gate cost` measures again")


def _bypass(plan: Plan, facts: Facts) -> Iterator[Found]:
    for table in facts.flow_tables:
        message = f"packets of the flow table {table} of nf_tables bypass all chains"
        yield Found("flow tables", message, "remove the table, or the plan's interfaces from the table")
    for name in {line.interface for line in plan.lines} | {network.interface for network in plan.networks}:
        interface = facts.interfaces.get(name)
        for feature in BYPASSING if interface is not None else ():
            if interface is not None and feature in interface.features:
                message = f"the card of {name} may forward packets without the kernel ({feature})"
                change = Change(path_of(name, feature), "off")
                yield Found(name, message, f"`ethtool -K {name} {feature} off`", (change,))


def _commands(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.missing:
        packages = " and ".join(dict.fromkeys("iproute2" if name == "ip" else "iptables" for name in facts.missing))
        yield Found("commands", f"{', '.join(facts.missing)} not found; the gate runs them", f"install {packages}")


def _queue(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.queue:
        message = f"the kernel's packet queue cannot be used: {facts.queue}"
        yield Found("kernel", message, "load the module nfnetlink_queue, or run a kernel that has it")


def _slow(plan: Plan, facts: Facts) -> Iterator[Found]:
    if facts.slow:
        yield Found("engine", f"the engine is not compiled: {facts.slow}; {COST_UNCOMPILED}", remedy(facts.slow))


CHECKS = (
    Check(
        "commands-missing",
        "error",
        "The gate diverts packets with iptables and ip6tables, and sets routes with ip.",
        _commands,
    ),
    Check(
        "queue-missing",
        "error",
        "The kernel hands packets to the gate through its packet queue (NFQUEUE).",
        _queue,
    ),
    Check(
        "not-compiled",
        "warning",
        "The program is installed as Python source; compiled, it carries several times as many packets.",
        _slow,
    ),
    Check(
        "bypass",
        "error",
        "A flow table, or the card itself, forwards packets of known conversations, and the gate does not see them.",
        _bypass,
    ),
    Check("one-core", "warning", "The gate has one core to itself when the line is full.", _one_core),
    Check(
        "core-full",
        "warning",
        "Where lines need more than the gate can carry, packets wait for the processor or bypass the gate.",
        _core_full,
    ),
    Check("clock-out-of-step", "warning", "Schedules and quota periods use this machine's clock.", _out_of_step),
    Check(
        "connections-few",
        "warning",
        "When the kernel's table of connections is full, it drops the packets of new ones.",
        _small_table,
    ),
)
