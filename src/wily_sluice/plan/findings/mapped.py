"""Findings about mappings and kept ports."""

from collections.abc import Iterator

from wily_sluice.plan.findings.kind import Checked, Told, kind


@kind(
    "mapping-nothing",
    "error",
    story="""\
A mapping needs hosts in your networks, and ports of TCP or UDP. This one would never open a port.
""",
    has="""\
mappings:
  - {local: 203.0.113.20, port: 3000}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 3000}
""",
)
def mapping_nothing(checked: Checked) -> Iterator[Told]:
    """Mappings that no host can request."""
    hosts = checked.hosts
    for grant in checked.plan.granting:
        here = ("mappings", grant.index)
        if not grant.ports:
            yield Told((*here, "port"), "no port here matches the granted protocols", "check `protocol`")
        if hosts and not grant.local.members.hardware and not grant.local.addresses & hosts:
            yield Told((*here, "local"), "no host here is in a network of the plan", "name local hosts")


@kind(
    "mapping-to-network",
    "warning",
    story="""\
Every device of the network could then open ports to the internet, also through programs that you do not know about.
Grant mappings only to the few devices that need them, such as consoles.
""",
    has="""\
mappings:
  - {local: guests, port: 3000-3010}
""",
    lacks="""\
mappings:
  - {local: 198.51.100.20-198.51.100.29, port: 3000-3010}
""",
)
def mapping_to_network(checked: Checked) -> Iterator[Told]:
    """Mappings for every host of a network."""
    for grant in checked.plan.granting:
        for network in checked.plan.networks:
            if network.addresses and not network.addresses - grant.local.addresses:
                message = f"any host of {network.name} may request mappings, regardless of its programs"
                yield Told(("mappings", grant.index, "local"), message, "name the hosts that need it, or a group")
                break


FIRST_FREE = 1024  # those before are for services (RFC 6335 §6)


@kind(
    "mapping-low-port",
    "warning",
    story="""\
Games and calls use ports from 1024 on. Lower ports (system ports in RFC 6335) belong to logins, file shares and
remote control for your local network, and a mapping would open them to the internet.
""",
    has="""\
mappings:
  - {local: 192.0.2.20, port: 22-3010}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 1024-1100}
""",
)
def mapping_low_port(checked: Checked) -> Iterator[Told]:
    """Mappings of ports on which services listen."""
    for grant in checked.plan.granting:
        low = min((first for spans in grant.ports.values() for first, _ in spans), default=FIRST_FREE)
        if low < FIRST_FREE:
            message = f"port {low} is a port of system services, such as logins and shared files"
            yield Told(("mappings", grant.index, "port"), message, f"begin at {FIRST_FREE} or above")


WIDE = 1000  # ports


@kind(
    "mapping-wide",
    "warning",
    story="""\
A device usually needs one port for its game or call program, and the maker says which. A range of thousands also
contains ports of other programs on the device, such as remote desks and databases. `sluice mappings` and the log
show which ports hosts requested.
""",
    has="""\
mappings:
  - {local: 192.0.2.20, port: 1024-65535}
""",
    lacks="""\
mappings:
  - {local: 192.0.2.20, port: 3000-3100}
""",
)
def mapping_wide(checked: Checked) -> Iterator[Told]:
    """Mappings of any port among very many."""
    for grant in checked.plan.granting:
        most = max((sum(last - first + 1 for first, last in spans) for spans in grant.ports.values()), default=0)
        if most > WIDE:
            message = f"{most} ports may be opened, including ports of services that you do not mean to offer"
            yield Told(("mappings", grant.index, "port"), message, "write the ports that the devices ask for")


@kind(
    "keep-ports-nothing",
    "warning",
    whole=True,
    story="""\
Ports can be kept where the addresses of your hosts are translated. These are remotes or host names, so the setting
has no effect.
""",
    has="""\
nat: {keep-ports: [203.0.113.20]}
""",
    lacks="""\
nat: {keep-ports: [192.0.2.20]}
""",
)
def keep_ports_nothing(checked: Checked) -> Iterator[Told]:
    """`keep-ports` without any local host."""
    steady, hosts = checked.plan.steady, checked.plan.hosts
    if steady is not None and hosts and not steady.addresses & hosts:
        yield Told(("nat", "keep-ports"), "no host here is in a network of the plan", "name local hosts")
