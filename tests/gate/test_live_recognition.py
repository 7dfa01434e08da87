"""Real packets are sorted by what they speak, whatever their port."""

import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.gate.stillness import hold
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import FAR_ADDRESSES, Layout, LineFigures
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import BUFFER, finish, gate_running
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live

PLAN = """\
site: Small
uplinks:
  line: {interface: wan0, down: 40 Mbit/s, up: 40 Mbit/s, headroom: 10%}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24, "fd07::/64"]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      web: {cap: 8 Mbit/s, aqm: fifo, limit: 4 MB}
      bulk: {cap: 4 Mbit/s, aqm: fifo, limit: 4 MB}
      rest: {default: true, cap: 1 Mbit/s}
rules:
  - {name: Media, service: calls, queue: calls}
  - {name: Long, service: web, moved: over 5 MB, queue: bulk}
  - {name: Pages, remote: "*.pages.example", queue: web}
gate: {keep-contacts: 2 h}
"""
PEER = Path(__file__).parent / "peer.py"
HOST = "10.7.0.100"


@contextmanager
def standing(name: str, file: Path) -> Iterator[Rig]:
    file.write_text(PLAN)
    plan = load(file)
    rig = Rig(f"{name}{os.getpid()}")
    rig.down()
    line = {u.name: LineFigures(u.down, u.up, 10 * MILLISECOND, BUFFER, u.framing) for u in plan.uplinks}
    rig.up(Layout(plan, rig.name, hosts=4), line)
    try:
        with gate_running(rig, file):
            yield rig
    finally:
        rig.down()


@pytest.fixture(scope="module")
def rig(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Rig]:
    with standing("rec", tmp_path_factory.mktemp("recognition") / "sluice.yaml") as up:
        yield up


@contextmanager
def serving(rig: Rig, *programs: tuple[object, ...]) -> Iterator[None]:
    """Peers that serve meanwhile; of each, where it runs and what it is."""
    servers = [peer(rig, str(index), *words) for index, *words in programs]
    try:
        for server in servers:
            assert server.stdout is not None
            assert server.stdout.readline().strip() == "ready"
        yield
    finally:
        for server in servers:
            server.kill()
            server.wait()


def peer(rig: Rig, index: str, *words: object) -> "subprocess.Popen[str]":
    command = rig.command(index, ["python3", str(PEER), *map(str, words)])
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


@pytest.mark.room
def test_a_download_and_a_call_on_one_port_go_to_different_queues_and_the_download_moves_on(rig: Rig) -> None:
    far = FAR_ADDRESSES[0]

    def measured() -> tuple[dict[str, float], dict[str, float]]:
        download = peer(rig, "house", "fetch-tls", HOST, far, 443, "www.pages.example", 8_000_000)
        call = peer(rig, "house", "send-media", HOST, far, 443, 8)
        return finish(download), finish(call)

    def kept(both: tuple[dict[str, float], dict[str, float]]) -> bool:
        download, call = both
        # 5 MB of packets at 8 Mbit/s, then 4 Mbit/s; of frames, of which 1448 in 1538 bytes is data.
        before, after = 8e6 * 1448 / 1538, 4e6 * 1448 / 1538
        return (
            abs(download["before"] - before) <= 0.05 * before
            and abs(download["after"] - after) <= 0.05 * after
            and download["lost"] == 0
            and call["lost"] == 0
            and call["p99"] < 15
        )

    with serving(rig, ("far", "serve-tls", far, 443), ("far", "echo-media", far, 443)):
        hold(measured, kept)
    command = [sys.executable, "-m", "wily_sluice", "contacts", "--host", HOST, "--json"]
    deadline = time.monotonic() + 10
    while True:
        told = json.loads(
            subprocess.run(rig.command("gateway", command), capture_output=True, text=True).stdout or "[]"
        )
        if told or time.monotonic() > deadline:
            break
        time.sleep(0.5)
    assert {(one["host"], one["name"]) for one in told} == {(HOST, "www.pages.example")}


def test_what_the_gateway_answers_to_questions_of_dns_names_what_tells_no_name_itself(rig: Rig) -> None:
    far, gateway = FAR_ADDRESSES[0], "10.7.0.1"

    def nameless() -> float:
        return finish(peer(rig, "house", "fetch-tls", HOST, far, 443, "", 300_000))["after"]

    with serving(rig, ("far", "serve-tls", far, 443), ("gateway", "answer-names", gateway, far)):
        hold(nameless, lambda rate: rate <= 1.1e6)  # the default's cap, and a burst of four frames in 94 kB
        assert finish(peer(rig, "house", "ask-name", HOST, gateway, "www.pages.example")) == {"address": far}
        hold(nameless, lambda rate: 2e6 <= rate <= 8e6)
