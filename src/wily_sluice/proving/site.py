"""The site of a proof on the running gate: our own host, the far side, and the world of the tests.

A temporary host of the gate: a network namespace on a separate link, whose packets the gateway forwards like those
of other hosts. Its addresses are unused ones.
"""

import json
import socket
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from ipaddress import ip_address
from pathlib import Path

from wily_sluice.errors import LiveError
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import examples, first_of
from wily_sluice.gate.kernel.process import PYTHON, require, run
from wily_sluice.plan.terms import Terms
from wily_sluice.proving.far_side import FarSide
from wily_sluice.proving.live import LiveWorld
from wily_sluice.rig.promises.gate_program import Program

NAMESPACE, OUTSIDE, INSIDE = "sluice-probe", "sluice-probe0", "eth0"
RESOLVED_WITHIN = 2.5  # seconds: a host that is there has answered by then (RFC 4861 §10, RFC 1122 §2.3.2.1)
NOBODY = frozenset(("FAILED", "INCOMPLETE"))
DISCARD = 9


def uplink_to(address: str) -> tuple[str, str]:
    """The interface to an address, and the gateway's own address there. LiveError."""
    command = ["ip", "-j", "route", "get", address]
    interfaces = json.loads(run(command).stdout or "[]")
    if not interfaces or "dev" not in interfaces[0]:
        raise LiveError(f"there is no route to {address}")
    return str(interfaces[0]["dev"]), str(interfaces[0].get("prefsrc", ""))


def free(addresses: Iterable[str]) -> set[str]:
    """Those that no host answers for on the networks of this machine."""
    asked = set(addresses)
    own = {
        info["local"]
        for link in json.loads(run(["ip", "-j", "address"]).stdout)
        for info in link.get("addr_info", ())
        if "local" in info
    }
    asked -= own
    for version in (4, 6):
        some = [address for address in asked if ip_address(address).version == version]
        if not some:
            continue
        with socket.socket(socket.AF_INET if version == 4 else socket.AF_INET6, socket.SOCK_DGRAM) as end:
            for address in some:
                with suppress(OSError):
                    end.sendto(b"", (address, DISCARD))
    time.sleep(RESOLVED_WITHIN)
    known = {load["dst"]: set(load.get("state", ())) for load in json.loads(run(["ip", "-j", "neigh"]).stdout)}
    return {address for address in asked if known.get(address, set(NOBODY)) & NOBODY}


@contextmanager
def probe(addresses: Iterable[str]) -> Iterator[list[str]]:
    """The host, with these addresses, while the context lasts: the command that runs another on it. LiveError."""
    require("ip")
    _remove()
    try:
        run(["ip", "netns", "add", NAMESPACE])
        run(["ip", "link", "add", OUTSIDE, "type", "veth", "peer", "name", INSIDE, "netns", NAMESPACE])
        lines = ["link set lo up", f"link set {INSIDE} up"]
        out = [f"link set {OUTSIDE} up"]
        for address in addresses:
            width = 128 if ":" in address else 32
            lines.append(f"address add {address}/{width} dev {INSIDE}" + (" nodad" if width == 128 else ""))
            out.append(f"route add {address}/{width} dev {OUTSIDE}")
        lines.append(f"route add default dev {INSIDE}")
        run(["ip", "-n", NAMESPACE, "-batch", "-"], stdin="\n".join(lines) + "\n")
        run(["ip", "-batch", "-"], stdin="\n".join(out) + "\n")
        # It asks for everybody's hardware address, since all are behind this link.
        Path(f"/proc/sys/net/ipv4/conf/{OUTSIDE}/proxy_arp").write_text("1")
        Path(f"/proc/sys/net/ipv4/neigh/{OUTSIDE}/proxy_delay").write_text("0")
        yield ["ip", "netns", "exec", NAMESPACE]
    except OSError as error:
        raise LiveError(f"the host of the proof cannot be made: {error}") from None
    finally:
        _remove()


def _remove() -> None:
    """Remove it, and any remains of an earlier one."""
    with suppress(LiveError):
        if Path("/run/netns", NAMESPACE).exists():
            run(["ip", "netns", "del", NAMESPACE])
    with suppress(LiveError):
        if Path("/sys/class/net", OUTSIDE).exists():
            run(["ip", "link", "del", OUTSIDE])


MOST_ADDRESSES = 200
MORE_OF_A_NETWORK = 24


@contextmanager
def live_world(bench: Bench, host: str, port: int, key: bytes, tell: Callable[[str], None]) -> Iterator[LiveWorld]:
    """The gate of this machine and a far end as a world, while the context lasts. LiveError when it cannot be."""
    interface, _ = uplink_to(host)
    uplink = next((uplink for uplink in bench.plan.uplinks if uplink.interface == interface), None)
    if uplink is None:
        raise LiveError(f"{host} is reached by {interface}, which is no uplink of the plan")
    far = FarSide(host, port, key)
    tell("looking for unused addresses …")
    width = len(ip_address(host).packed)
    free_addresses = sorted(free(str(ip_address(address)) for address in addresses(bench, width)))
    if not free_addresses:
        raise LiveError("there is no unused address for the temporary host")
    with ExitStack() as stack:
        stack.callback(far.close)
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        command = stack.enter_context(probe(free_addresses))
        near = Program([*command, *PYTHON, "wily_sluice.rig.promises.traffic_program"], folder / "traffic.log")
        stack.callback(near.close)
        yield LiveWorld(bench, uplink, host, far, near, [ip_address(address).packed for address in free_addresses])


def addresses(bench: Bench, width: int) -> list[bytes]:
    """Addresses of this length that the plan's promises can be tested with: from all rules and limiters, and some of
    each network.
    """
    plan = bench.plan
    asked = [Terms(), *(rule.terms for rule in plan.sorting), *(limiter.terms for limiter in plan.limiters)]
    local_hosts = dict.fromkeys(example.parties.local for terms in asked for example in examples(plan, terms))
    for network in plan.networks:
        middle = first_of(network.addresses, width)
        if middle is not None:
            number = int.from_bytes(middle)
            for step in range(MORE_OF_A_NETWORK):
                more = (number + 7 * step).to_bytes(width)
                if more in network.addresses:
                    local_hosts[more] = None
    return [address for address in local_hosts if len(address) == width][:MOST_ADDRESSES]
