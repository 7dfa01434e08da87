"""What opens ports, with a kernel that only notes what it is told."""

import asyncio
import re
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest

from tests.ports.test_answers import HOST, PLAN
from wily_sluice.control.api import port_mapper
from wily_sluice.control.api.port_mapper import PortMapper
from wily_sluice.outside.files import load
from wily_sluice.ports.mapping_table import Sender, Wish

HOUR = 3600.0


def test_a_clock_that_is_set_neither_closes_a_port_nor_keeps_it_open(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN)
    ends: list[float] = []
    stepped = 0.0
    clock = time.time

    def put(wanted: dict[str, dict[str, list[str]]], _: bool) -> None:
        rules = "\n".join(wanted["iptables"]["filter"])
        ends.extend(
            datetime.strptime(word, "%Y-%m-%dT%H:%M:%S").replace(tzinfo=UTC).timestamp() - clock()
            for word in re.findall(r"--datestop (\S+)", rules)
        )

    monkeypatch.setattr(port_mapper.port_chains, "put", put)
    monkeypatch.setattr(port_mapper.port_chains, "remove", lambda: None)
    monkeypatch.setattr(port_mapper.port_chains, "address_of", lambda _: bytes((192, 0, 2, 2)))
    monkeypatch.setattr(port_mapper.time, "time", lambda: clock() + stepped)

    async def run() -> None:
        nonlocal stepped
        mapper = PortMapper(lambda _: None, lambda *_: None)
        mapper.follow(load(file))
        mapper.book.ask(Wish(Sender(HOST), 17, 3000, 600, "PCP"), time.monotonic_ns())
        for step in (0.0, HOUR, -2 * HOUR):
            before, stepped = len(ends), stepped + step
            async with asyncio.timeout(5):
                while len(ends) == before:
                    await asyncio.sleep(0.05)
        mapper.close()

    asyncio.run(run())
    assert ends == pytest.approx([600, 600 + HOUR, 600 - HOUR], abs=10)
