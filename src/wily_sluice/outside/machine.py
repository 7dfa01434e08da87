"""This machine's interfaces, subnets, default routes, and time zone."""

import json
import subprocess
from contextlib import suppress
from ipaddress import ip_interface
from pathlib import Path
from typing import Any, NamedTuple


class Interface(NamedTuple):
    """`subnets` are those of its global addresses; `default` says whether a default route leads through it."""

    name: str
    subnets: tuple[str, ...]
    default: bool


def interfaces() -> list[Interface]:
    """Those that are up, without the loopback; none where the command `ip` is not there."""
    routes = [*_asked("route", "show", "default"), *_asked("-6", "route", "show", "default")]
    leading = {str(route.get("dev")) for route in routes}
    found = []
    for one in _asked("address", "show", "up"):
        name = str(one.get("ifname", ""))
        addresses = [a for a in one.get("addr_info", ()) if a.get("scope") == "global"]
        subnets = [str(ip_interface(f"{a['local']}/{a['prefixlen']}").network) for a in addresses]
        if name and "LOOPBACK" not in one.get("flags", ()):
            found.append(Interface(name, tuple(dict.fromkeys(subnets)), name in leading))
    return found


def _asked(*words: str) -> list[dict[str, Any]]:
    with suppress(OSError, ValueError):
        done = subprocess.run(["ip", "-json", *words], capture_output=True, text=True, check=False, timeout=5)
        data = json.loads(done.stdout or "[]")
        return data if isinstance(data, list) else []
    return []


def way_to(address: str) -> str:
    """The interface of the route to an address; empty if there is none."""
    found = _asked(*(["-6"] if ":" in address else []), "route", "get", address)
    return str(found[0].get("dev", "")) if found else ""


def timezone() -> str:
    """The machine's time zone by its name; UTC where it has none."""
    with suppress(OSError):
        path = str(Path("/etc/localtime").resolve(strict=True))
        if "zoneinfo/" in path:
            return path.partition("zoneinfo/")[2]
    with suppress(OSError):
        return Path("/etc/timezone").read_text().strip() or "UTC"
    return "UTC"
