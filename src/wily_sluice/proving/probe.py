"""A temporary host of the gate: a network namespace on a separate link, whose packets the gateway forwards like those
of other hosts. Its addresses are unused ones.
"""

import json
import socket
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from ipaddress import ip_address
from pathlib import Path

from wily_sluice.errors import LiveError
from wily_sluice.gate.kernel.command import require, run

NAMESPACE, OUTSIDE, INSIDE = "sluice-probe", "sluice-probe0", "eth0"
RESOLVED_WITHIN = 2.5  # seconds: a host that is there has answered by then (RFC 4861 §10, RFC 1122 §2.3.2.1)
NOBODY = frozenset(("FAILED", "INCOMPLETE"))
DISCARD = 9


def uplink_to(address: str) -> tuple[str, str]:
    """The interface to an address, and the gateway's own address there. LiveError."""
    command = ["ip", "-j", "route", "get", address]
    found = json.loads(run(command).stdout or "[]")
    if not found or "dev" not in found[0]:
        raise LiveError(f"there is no route to {address}")
    return str(found[0]["dev"]), str(found[0].get("prefsrc", ""))


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
        some = [one for one in asked if ip_address(one).version == version]
        if not some:
            continue
        with socket.socket(socket.AF_INET if version == 4 else socket.AF_INET6, socket.SOCK_DGRAM) as end:
            for address in some:
                with suppress(OSError):
                    end.sendto(b"", (address, DISCARD))
    time.sleep(RESOLVED_WITHIN)
    known = {one["dst"]: set(one.get("state", ())) for one in json.loads(run(["ip", "-j", "neigh"]).stdout)}
    return {one for one in asked if known.get(one, set(NOBODY)) & NOBODY}


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
