"""Names of hosts: by the plan first, then by leases, then by the name service."""

import socket
from pathlib import Path
from typing import Any

import pytest

from wily_sluice.control.api import hosts as host_names
from wily_sluice.control.api.hosts import HostNames, Lease, all_names, leases
from wily_sluice.outside.files import load
from wily_sluice.plan.groups.members import hardware_names
from wily_sluice.plan.model import Plan

GATEWAY = {"127.0.0.1": "gateway", "::1": "gateway"}  # how it is known, in every plan
PLAN = """\
site: Named
uplinks: {line: {interface: wan0, down: 10 Mbit/s, up: 4 Mbit/s}}
networks: {house: {interface: lan0, subnets: [10.7.0.0/24]}}
hosts:
  reception: 10.7.0.50
  scanner: [10.7.0.70, "02:00:5E:10:00:46"]
groups:
  printer: [10.7.0.60]
  several: [10.7.0.61, 10.7.0.62]
trees: {main: {queues: {calls: {}, rest: {default: true}}}}
rules:
  - {local: reception, queue: calls}
  - {local: scanner, protocol: tcp, queue: calls}
"""
LINES = """\
1795000000 02:00:5e:10:00:46 10.7.0.71 * 01:02:00:5e:10:00:46
1795000000 02:00:5e:10:00:01 10.7.0.80 kitchen-pc *
0 02:00:5e:10:00:02 10.7.0.81 <script>.example *
duid 00:01:00:01
junk
"""
BLOCKS = """\
# made by hand
lease 10.7.0.80 {
  hardware ethernet 02:00:5e:10:00:09;
  client-hostname "old";
}
lease 10.7.0.80 {
  starts 4 2026/11/26 10:00:00;
  hardware ethernet 02:00:5E:10:00:01;
  client-hostname "kitchen-pc";
}
lease nowhere {
  client-hostname "x";
}
lease 10.7.0.71 {
  hardware ethernet 02:00:5e:10:00:46;
}
"""
ROWS = """\
address,hwaddr,client_id,valid_lifetime,expire,subnet_id,fqdn_fwd,fqdn_rev,hostname,state
10.7.0.80,02:00:5e:10:00:01,,3600,1795000000,1,0,0,kitchen-pc.house.example,0
10.7.0.71,02:00:5e:10:00:46,,3600,1795000000,1,0,0,,0
,,
"""


@pytest.mark.parametrize("text", [LINES, BLOCKS, ROWS])
def test_leases_are_read_in_each_form_and_nothing_else_is_taken_for_a_name(text: str) -> None:
    found = {lease.address: lease for lease in leases(text)}
    assert found["10.7.0.80"] == Lease("10.7.0.80", "02:00:5e:10:00:01", "kitchen-pc")
    assert found["10.7.0.71"] == Lease("10.7.0.71", "02:00:5e:10:00:46", "")
    assert found.keys() - {"10.7.0.80", "10.7.0.71"} <= {"10.7.0.81"}
    assert "10.7.0.81" not in found or found["10.7.0.81"].name == ""
    assert leases("\0" * 1000) == leases("") == []


def named(tmp_path: Path, more: str = "") -> Plan:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN + more)
    return load(file)


def test_a_host_of_the_plan_can_be_asked_for_and_is_known_by_its_name(tmp_path: Path) -> None:
    plan = named(tmp_path)
    first, second = plan.rules
    assert first.terms.local is not None and str(first.terms.local.addresses) == "10.7.0.50"
    assert second.terms.local is not None and second.terms.local.members.hardware == {bytes.fromhex("02005e100046")}
    assert hardware_names(plan) == {"02:00:5e:10:00:46": "scanner"}
    assert all_names(plan) == {**GATEWAY, "10.7.0.50": "reception", "10.7.0.60": "printer", "10.7.0.70": "scanner"}
    assert "several" in plan.groups and "reception" not in plan.groups


def test_leases_tell_where_a_device_is_and_the_name_service_of_whom_nobody_else_knows(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "leases"
    file.write_text(LINES + "1795000000 02:00:5e:10:00:03 10.7.0.50 liar *\n")
    plan = named(tmp_path, f"gate: {{names: {{leases: [{file}, /nowhere/leases], reverse: true}}}}\n")
    asked: list[str] = []

    def reverse(address: str) -> Any:
        asked.append(address)
        if address == "10.7.0.92":
            raise socket.herror
        return f"host-{address[-2:]}.house.example", [], []

    monkeypatch.setattr(socket, "gethostbyaddr", reverse)
    monkeypatch.setattr(host_names, "neighbours", dict)
    names = HostNames()
    names._plan = plan
    names.saw(["10.7.0.50", "10.7.0.80", "10.7.0.91", "10.7.0.92"])
    for _ in range(2):
        names.look(plan)
    assert names.known == {
        **GATEWAY,
        "10.7.0.50": "reception",
        "10.7.0.60": "printer",
        "10.7.0.70": "scanner",
        "10.7.0.71": "scanner",
        "10.7.0.80": "kitchen-pc",
        "10.7.0.91": "host-91",
    }
    assert asked == ["10.7.0.91", "10.7.0.92"]


@pytest.mark.parametrize(
    ("host", "says"),
    [
        ("10.7.0.0/24", "“10.7.0.0/24” is not the address of a host"),
        ("{hardware: 10.7.0.4}", "“10.7.0.4” is not a hardware address"),
    ],
)
def test_a_host_that_is_none_is_told(tmp_path: Path, host: str, says: str) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN.replace("10.7.0.50\n", f"{host}\n"))
    with pytest.raises(Exception, match=says):
        load(file)


def test_a_name_stands_for_one_thing(tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN.replace("reception", "printer"))
    with pytest.raises(Exception, match="“printer” is a group already"):
        load(file)
