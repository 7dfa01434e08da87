"""Mappings on real packets: hosts ask by PCP and NAT-PMP, and remotes reach them by the ports that they got."""

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from subprocess import PIPE

import pytest

from tests.gate.running import Running
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import built
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
PLAN = """\
site: Mappings
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
  guests: {interface: lan1, subnets: [10.8.0.0/24]}
services:
  league: {ports: [41100/udp]}
trees:
  main: {queues: {play: {priority: 1, guarantee: 20%}, rest: {default: true}}}
rules:
  - {service: league, queue: play}
nat: {keep-ports: [10.7.0.101, 10.7.0.102]}
mappings:
  - {local: 10.7.0.100, port: 3000-3009, lifetime: 10 s, service: league}
  - {local: "02:00:5e:10:00:77", port: 3020, lifetime: 10 s}
"""
# A firewall as many have it: nothing comes in that was not asked for.
CLOSED = """
iptables -P FORWARD DROP
iptables -A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT
iptables -A FORWARD -i lan0 -j ACCEPT
iptables -t nat -I POSTROUTING 1 -o wan0 -s 10.7.0.102 -p udp -j MASQUERADE --random
"""
CLOSED_BY_NFT = """
nft -f - <<'END'
table inet house {
  chain forward {
    type filter hook forward priority filter; policy drop
    ct state established,related accept
    ct status dnat accept
    iifname "lan0" accept
  }
}
END
"""
# Asks the gateway, and prints the answer in hexadecimal.
ASK = """
import socket, sys
end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
end.bind((sys.argv[1], 0))
end.settimeout(5)
end.sendto(bytes.fromhex(sys.argv[2]), ("10.7.0.1", 5351))
data, source = end.recvfrom(2000)
assert source == ("10.7.0.1", 5351), source
print(data.hex())
"""
# Asks the gateway at this hardware and IP address from others of its choice, and does not wait for an answer.
ASK_FROM = """
import socket, struct, sys
from wily_sluice.gate.kernel.echo import checksum
source, gateway = (socket.inet_aton(word) for word in (sys.argv[1], sys.argv[4]))
data = bytes.fromhex(sys.argv[2])
head = struct.pack(">BBHHHBBH4s4s", 69, 0, 28 + len(data), 1, 0, 64, 17, 0, source, gateway)
head = head[:10] + struct.pack(">H", checksum(head)) + head[12:]
packet = head + struct.pack(">HHHH", 6000, 5351, 8 + len(data), 0) + data
end = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
end.bind(("eth0", 0))
end.send(bytes.fromhex(sys.argv[3]) + bytes.fromhex("02005e1000990800") + packet)
"""
# Answers whatever comes to a port, by both protocols.
SERVER = """
import socket, sys, threading
def stream(one):
    while data := one.recv(100):
        one.sendall(data)
def listen(end):
    while True:
        threading.Thread(target=stream, args=(end.accept()[0],), daemon=True).start()
tcp = socket.create_server(("10.7.0.100", int(sys.argv[1])))
threading.Thread(target=listen, args=(tcp,), daemon=True).start()
udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
udp.bind(("10.7.0.100", int(sys.argv[1])))
print("ready", flush=True)
while True:
    data, source = udp.recvfrom(100)
    udp.sendto(data, source)
"""
# Speaks to what is open, now and whenever it is told to.
FAR = """
import socket, sys
tcp = sys.argv[1] == "tcp"
end = socket.socket(socket.AF_INET, socket.SOCK_STREAM if tcp else socket.SOCK_DGRAM)
end.settimeout(2)
end.bind(("198.51.100.10", int(sys.argv[3]) if len(sys.argv) > 3 else 0))
def said():
    try:
        end.send(b"again")
        return end.recv(100).decode()
    except OSError as error:
        return type(error).__name__
try:
    end.connect(("192.0.2.2", int(sys.argv[2])))
    print(said(), flush=True)
except OSError as error:
    print(type(error).__name__, flush=True)
for line in sys.stdin:
    print(said(), flush=True)
"""
# Sends from a port to a remote's, and prints as whom the remote sees it.
SEEN = """
import socket, sys
end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
end.bind((sys.argv[1], 5555))
end.settimeout(5)
end.sendto(b"who am I?", ("198.51.100.10", 9000))
print(end.recv(100).decode())
"""
MIRROR = """
import socket
end = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
end.bind(("198.51.100.10", 9000))
print("ready", flush=True)
while True:
    _, source = end.recvfrom(100)
    end.sendto(f"{source[0]}:{source[1]}".encode(), source)
"""


def python(rig: Rig, place: str, script: str, *words: object) -> subprocess.Popen[str]:
    command = rig.command(place, [sys.executable, "-c", script, *map(str, words)])
    return subprocess.Popen(command, stdin=PIPE, stdout=PIPE, text=True)


def line(process: subprocess.Popen[str]) -> str:
    assert process.stdout is not None
    return process.stdout.readline().strip()


def again(process: subprocess.Popen[str]) -> str:
    assert process.stdin is not None
    process.stdin.write("\n")
    process.stdin.flush()
    return line(process)


def ask(rig: Rig, data: str, host: str = "10.7.0.100") -> bytes:
    return bytes.fromhex(line(python(rig, "house", ASK, host, data)))


def wish(inside: int, outside: int = 0, lifetime: int = 600, host: int = 100, protocol: int = 17) -> str:
    client = f"0201 0000 {lifetime:08x} 00000000 00000000 0000ffff 0a0700{host:02x}"
    return f"{client} {b'twelve bytes'.hex()} {protocol:02x}000000 {inside:04x} {outside:04x} {bytes(16).hex()}"


@contextmanager
def site(tmp_path: Path, firewall: str = CLOSED) -> Iterator[tuple[Rig, Running]]:
    file = tmp_path / "sluice.yaml"
    file.write_text(PLAN)
    with built(load(file), "mappings", 10 * MILLISECOND) as rig:
        subprocess.run(rig.command("gateway", ["sh", "-ec", firewall]), check=True)
        named = ["ip", "link", "set", "eth0", "address", "02:00:5e:10:00:77"]
        subprocess.run(rig.command("house", named), check=True)
        server, mirror = python(rig, "house", SERVER, 3000), python(rig, "far", MIRROR)
        assert line(server) == line(mirror) == "ready"
        gate = Running(rig, tmp_path / "state", str(file)).wait()
        try:
            yield rig, gate
        finally:
            gate.end()
            server.kill()
            mirror.kill()
        for table in ("nat", "filter"):
            saved = subprocess.run(
                rig.command("gateway", ["iptables-save", "-t", table]), capture_output=True, check=True
            )
            assert b"SLUICE" not in saved.stdout


def test_a_port_that_was_opened_is_reached_and_is_closed_when_its_time_is_over(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, gate):
        assert ask(rig, wish(3020, host=101), "10.7.0.101")[3] == 0  # it is known by its hardware address
        closed = python(rig, "far", FAR, "udp", 3001)
        assert line(closed) in ("timeout", "TimeoutError", "ConnectionRefusedError")
        refused = ask(rig, wish(22))
        assert refused[:4] == bytes((2, 0x81, 0, 2))
        assert ask(rig, wish(3000, host=101), "10.7.0.101")[3] == 2
        opened = ask(rig, wish(3000, 3001))
        begun = time.monotonic()
        assert (opened[3], int.from_bytes(opened[4:8]), opened[40:44]) == (0, 10, bytes((11, 184, 11, 185)))
        assert opened[56:60] == bytes((192, 0, 2, 2))
        far = python(rig, "far", FAR, "udp", 3001, 40_000)
        assert line(far) == "again"
        mapped = ask(rig, f"00 02 0000 {3000:04x} {3001:04x} {600:08x}")
        assert mapped[:4] + mapped[8:] == bytes.fromhex(f"00820000 {3000:04x} {3001:04x} {10:08x}")
        stream = python(rig, "far", FAR, "tcp", 3001)
        assert line(stream) == "again"
        # What comes by it is of the service that it was opened for, and is sorted so.
        look = gate.call(
            "classify.look", protocol=17, local="10.7.0.100", local_port=3000, remote="198.51.100.10",
            remote_port=40_000,
        )  # fmt: skip
        assert {going["queue"] for going in look["going"]} == {"play"}, look
        listed = gate.call("mappings.list")
        assert [(one["protocol"], one["inside"], one["outside"], one["by"]) for one in listed["mappings"]] == [
            ("udp", 3020, 3020, "PCP"),
            ("udp", 3000, 3001, "PCP"),
            ("tcp", 3000, 3001, "NAT-PMP"),
        ]
        assert listed["refused"] == 2
        words = rig.command("gateway", [sys.executable, "-m", "wily_sluice", "mappings", "--json"])
        shown = json.loads(subprocess.run(words, capture_output=True, check=True).stdout)
        assert [one["outside"] for one in shown["mappings"]] == [3020, 3001, 3001]
        time.sleep(max(0.0, begun + 13 - time.monotonic()))
        assert gate.call("mappings.list")["mappings"] == []
        assert again(far) != "again" and again(stream) != "again"
        # Revoked, a mapping ends at once and is not had again.
        assert ask(rig, wish(3000, 3001))[3] == 0
        far = python(rig, "far", FAR, "udp", 3001)
        assert line(far) == "again"
        assert gate.call("mappings.revoke", host="10.7.0.100") == {"ended": 1}
        time.sleep(1)
        assert again(far) != "again"
        assert ask(rig, wish(3000, 3001))[3] == 2
        events = [one["event"] for one in gate.events()]
        # One refusal of a host is told in a minute.
        assert [events.count(f"mapping.{kind}") for kind in ("made", "refused", "ended")] == [4, 2, 4]


def test_who_writes_the_address_of_another_host_opens_and_ends_nothing_of_it(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, gate):
        assert ask(rig, wish(3000, 3001))[3] == 0
        by_guest, by_neighbour = wish(3002), f"00 01 0000 {3003:04x} 0000 {600:08x}"
        end_all = "00 01 0000 0000 0000 00000000"
        for place, interface, own in (("guests", "lan1", "10.8.0.1"), ("house", "lan0", "10.7.0.1")):
            words = rig.command("gateway", ["cat", f"/sys/class/net/{interface}/address"])
            there = subprocess.run(words, capture_output=True, check=True, text=True).stdout.strip().replace(":", "")
            for data in (by_guest, by_neighbour, end_all):
                assert python(rig, place, ASK_FROM, "10.7.0.100", data, there, own).wait(10) == 0
        time.sleep(0.5)
        listed = gate.call("mappings.list")
        assert ([mapping["inside"] for mapping in listed["mappings"]], listed["refused"]) == ([3000], 6)
        # With its own device, the same is done.
        assert ask(rig, by_neighbour)[3] == 0
        assert [mapping["inside"] for mapping in gate.call("mappings.list")["mappings"]] == [3000, 3003]
        assert ask(rig, end_all)[3] == 0
        assert [mapping["inside"] for mapping in gate.call("mappings.list")["mappings"]] == [3000]
        refused = [event["why"] for event in gate.events() if event["event"] == "mapping.refused"]
        assert refused == ["it came by the interface of another network"]  # of one host, one in a minute is told


def children(parent: int, program: str) -> list[int]:
    found = subprocess.run(["pgrep", "-P", str(parent), "-f", program], capture_output=True, text=True, check=True)
    return [int(word) for word in found.stdout.split()]


@pytest.mark.room
def test_mappings_end_with_the_gate_and_hosts_are_told_to_ask_again(tmp_path: Path) -> None:
    with site(tmp_path, CLOSED_BY_NFT) as (rig, gate):
        first = ask(rig, "00 00")
        time.sleep(2)
        assert ask(rig, wish(3000, 3001))[3] == 0
        for desk in children(gate.process.pid, "wily_sluice.control.api"):
            os.kill(desk, signal.SIGKILL)
        deadline = time.monotonic() + 20
        while True:
            time.sleep(0.5)
            try:
                later = ask(rig, "00 00")
                break
            except (ValueError, AssertionError):
                assert time.monotonic() < deadline
        assert int.from_bytes(later[4:8]) < int.from_bytes(first[4:8]) + 6
        closed = python(rig, "far", FAR, "udp", 3001)
        assert line(closed) != "again"
        assert ask(rig, wish(3000, 3001))[3] == 0
        assert line(python(rig, "far", FAR, "udp", 3001)) == "again"


def test_ports_are_kept_through_translation_and_it_is_told_when_two_collide(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, gate):
        seen = {host: line(python(rig, "house", SEEN, f"10.7.0.{host}")) for host in (101, 102)}
        assert seen[101] == "192.0.2.2:5555"
        assert seen[102].startswith("192.0.2.2:") and seen[102] != seen[101]
        deadline = time.monotonic() + 15
        while "port.moved" not in [one["event"] for one in gate.call("gate.status")["events"]]:
            assert time.monotonic() < deadline
            time.sleep(0.5)
        moved = next(one for one in gate.events() if one["event"] == "port.moved")
        assert (moved["host"], moved["port"], moved["remote"]) == ("10.7.0.102", "5555/udp", "198.51.100.10")
        assert moved["became"].partition("/")[0] == seen[102].partition(":")[2]
