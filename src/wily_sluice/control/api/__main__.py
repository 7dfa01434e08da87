"""Runs the gate's second process: `python -m wily_sluice.control.api STATE SHOW DESCRIPTOR HEART GATE`.

SHOW prints each second's figures, as MODULE:FUNCTION; empty for none.
"""

import asyncio
import socket
import sys
from collections.abc import Callable
from importlib import import_module
from pathlib import Path
from threading import Thread

from wily_sluice.control.api.service import ApiService
from wily_sluice.control.api.snapshot import Snapshot
from wily_sluice.control.link.link import Link
from wily_sluice.control.link.messages import FromGate
from wily_sluice.control.log import note
from wily_sluice.gate.kernel.process import Heart, watch_over
from wily_sluice.plan.model import Plan


def run_api(number: int, state: Path, show: Callable[[Plan, Snapshot], None] | None) -> None:
    """Sit at the end of the link that has this file descriptor."""
    try:
        link: Link[FromGate] = Link(socket.socket(fileno=number), FromGate)
    except EOFError:
        return  # the gate has gone already

    async def sit() -> None:
        await ApiService(link, state, show).run()

    asyncio.run(sit())


def _hung(seconds: float) -> None:
    why = f"its loop has not turned for {seconds:.1f} s, so it is ended: traffic bypasses it until it is started again"
    note("gate.hung", "error", why=why)


def main(state: str, show: str, descriptor: str, heart: str = "", gate: str = "") -> None:
    """Sit there until the gate ends, and end it if it hangs."""
    if heart:
        watched = Heart(int(heart)), int(gate), _hung
        Thread(target=watch_over, args=watched, daemon=True).start()
    module, _, function = show.partition(":")
    run_api(int(descriptor), Path(state), getattr(import_module(module), function) if show else None)


if __name__ == "__main__":
    main(*sys.argv[1:])
