"""This machine: the form that the program is installed in, its interfaces, and its time zone."""

import json
import platform
import subprocess
from contextlib import suppress
from importlib.resources import files
from ipaddress import ip_interface
from pathlib import Path
from typing import Any, Final, NamedTuple

from wily_sluice.engine.queueing import tree

COST_UNCOMPILED: Final = "a packet costs about three times the processor time"  # docs/performance.md
REMEDY: Final = "install a C compiler and Python's headers (packages gcc and python3-dev), then the program again"
EDITABLE: Final = "it is an editable installation, which runs the source files"


def why_not_compiled() -> str:
    """Why the engine is not compiled here; empty if it is."""
    if not (tree.__file__ or "").endswith(".py"):
        return ""
    try:
        reason = json.loads((files("wily_sluice") / "form.json").read_text())["reason"]
    except (OSError, ValueError, KeyError):
        return EDITABLE
    return str(reason) or "the compiled modules are missing; install the program again"


def remedy(reason: str) -> str:
    """How the engine gets compiled."""
    return "install the program from a wheel, or with `pip install .`" if reason == EDITABLE else REMEDY


def form_words() -> str:
    """`compiled`, or `not compiled: …`, for a line about the version."""
    reason = why_not_compiled()
    return f"not compiled: {reason}" if reason else "compiled"


def version_words(version: str) -> str:
    """What `--version` prints."""
    reason = why_not_compiled()
    lines = [f"sluice {version}, engine {form_words()}", f"Python {platform.python_version()}"]
    if reason:
        lines.append(f"Shaping works; {COST_UNCOMPILED}. To compile: {remedy(reason)}.")
    return "\n".join(lines)


class Interface(NamedTuple):
    """`subnets` are those of its global addresses; `default` says whether a default route leads through it."""

    name: str
    subnets: tuple[str, ...]
    default: bool


def interfaces() -> list[Interface]:
    """Those that are up, without the loopback; none where the command `ip` is not there."""
    routes = [*_asked("route", "show", "default"), *_asked("-6", "route", "show", "default")]
    leading = {str(route.get("dev")) for route in routes}
    interfaces_up = []
    for link in _asked("address", "show", "up"):
        name = str(link.get("ifname", ""))
        addresses = [a for a in link.get("addr_info", ()) if a.get("scope") == "global"]
        subnets = [str(ip_interface(f"{a['local']}/{a['prefixlen']}").network) for a in addresses]
        if name and "LOOPBACK" not in link.get("flags", ()):
            interfaces_up.append(Interface(name, tuple(dict.fromkeys(subnets)), name in leading))
    return interfaces_up


def _asked(*words: str) -> list[dict[str, Any]]:
    with suppress(OSError, ValueError):
        done = subprocess.run(["ip", "-json", *words], capture_output=True, text=True, check=False, timeout=5)
        data = json.loads(done.stdout or "[]")
        return data if isinstance(data, list) else []
    return []


def way_to(address: str) -> str:
    """The interface of the route to an address; empty if there is none."""
    answer = _asked(*(["-6"] if ":" in address else []), "route", "get", address)
    return str(answer[0].get("dev", "")) if answer else ""


def timezone() -> str:
    """The machine's time zone by its name; UTC where it has none."""
    with suppress(OSError):
        path = str(Path("/etc/localtime").resolve(strict=True))
        if "zoneinfo/" in path:
            return path.partition("zoneinfo/")[2]
    with suppress(OSError):
        return Path("/etc/timezone").read_text().strip() or "UTC"
    return "UTC"
