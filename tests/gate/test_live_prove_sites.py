"""What is proven on a rig: the sites to start from, one kind of promise alone; and lines that are cut by hand."""

import os
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from wily_sluice import examples
from wily_sluice.engine.packet import ETHERNET
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.promises import promises
from wily_sluice.outside.files import load
from wily_sluice.rig.layout import Layout, LineFigures
from wily_sluice.rig.promises.prove import prove_on_rig
from wily_sluice.rig.rig import Rig

pytestmark = pytest.mark.live
EVERY = ("guarantee", "cap", "limiter", "rule", "default", "traffic", "schedule", "route", "takeover", "failure")
SITES = list(examples.sites())
REFUSING = """\
site: Refusing
uplinks:
  line: {interface: wan0, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%}
  spare: {interface: wan1, down: 20 Mbit/s, up: 10 Mbit/s, headroom: 10%, refuses: guests}
networks:
  house: {interface: lan0, subnets: [192.0.2.0/24, "2001:db8::/64"]}
  guests: {interface: lan1, subnets: [203.0.113.0/24]}
trees:
  main:
    queues:
      guests: {guarantee: 3%}
      rest: {default: true, guarantee: 10%}
rules:
  - {name: Guests, network: guests, queue: guests}
"""


@pytest.mark.parametrize("name", [pytest.param(one, marks=[pytest.mark.slow] * (one != "home")) for one in SITES])
def test_a_site_to_start_from_keeps_its_promises_on_real_packets(name: str) -> None:
    file = examples.sites()[name].file
    bench = Bench(load(file))
    lab, rig = prove_on_rig(bench, promises(bench), file, lambda _: None)
    assert not [one for one in rig if one.verdict == "broken"]
    assert [one.verdict for one in rig[:-1] if one.verdict != "not tried"] == [
        simulated.verdict for simulated, real in zip(lab, rig, strict=False) if real.verdict != "not tried"
    ]


@pytest.mark.room
@pytest.mark.parametrize(
    "kind", [pytest.param(kind, marks=() if kind == "failure" else pytest.mark.slow) for kind in EVERY]
)
def test_one_kind_of_promise_is_tried_alone(kind: str) -> None:
    demo = str(examples.folder() / examples.PLAN)
    command = [sys.executable, "-m", "wily_sluice", "prove", "--rig", "--filter", kind, "--csv", demo]
    done = subprocess.run(command, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    assert {line.split(",")[0] for line in done.stdout.splitlines()[1:]} == {kind}


def test_a_network_that_a_line_refuses_is_refused_there_and_not_past_the_gate(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(REFUSING)
    bench = Bench(load(file))
    asked = [one for one in promises(bench) if one.proof.kind == "traffic"]
    _, rig = prove_on_rig(bench, asked, file, lambda _: None, failing=False)
    assert {one.verdict for one in rig} == {"kept"}
    refused = [(one.name, one.where) for one in rig if "refused" in one.expected]
    assert refused == [("guests, IPv4", "spare")]


@pytest.mark.parametrize("silent", [False, True])
def test_a_line_is_cut_and_works_again(tmp_path: Path, silent: bool) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(REFUSING)
    plan, rig = load(file), Rig(f"cut{os.getpid()}")
    rig.up(Layout(plan, rig.name, 4), {u.name: LineFigures(u.down, u.up, 0, 10**8, ETHERNET) for u in plan.uplinks})
    script = "import socket, sys; socket.create_connection((sys.argv[1], 7001), timeout=0.7)"

    def reached(remote: str, within: float = 4) -> bool:
        until = time.monotonic() + within
        while True:
            done = subprocess.run(rig.command("house", [sys.executable, "-c", script, remote]), stderr=subprocess.PIPE)
            if done.returncode == 0 or b"Refused" in done.stderr:  # somebody answers
                return True
            if time.monotonic() > until:
                return False

    try:
        assert socket.has_ipv6 and all(reached(remote) for remote in rig.far_addresses)
        rig.cut("line", silent)
        look = rig.command("gateway", ["cat", "/sys/class/net/wan0/carrier"])
        carrier = subprocess.run(look, capture_output=True, text=True, check=True).stdout.strip()
        assert carrier == ("1" if silent else "0")
        assert not any(reached(remote, 0) for remote in rig.far_addresses)
        rig.repair("line")
        assert all(reached(remote) for remote in rig.far_addresses)
    finally:
        rig.down()
