"""Routes on real packets: two uplinks, and which of them each conversation takes."""

import json
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from subprocess import PIPE

import pytest

from tests.gate.running import Running, confined
from tests.gate.stillness import hold
from wily_sluice.outside.files import load
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, built, call_result, finish, start_endpoint
from wily_sluice.units import MILLISECOND

pytestmark = pytest.mark.live
PLAN = """\
site: Two lines
uplinks:
  fibre: {interface: wan0, down: 20 Mbit/s, up: 20 Mbit/s, probe: [198.51.100.10]}
  mobile: {interface: wan1, down: 10 Mbit/s, up: 10 Mbit/s}
networks:
  house: {interface: lan0, subnets: [10.7.0.0/24]}
trees:
  main: {queues: {calls: {priority: 1, guarantee: 20%}, rest: {default: true}}}
rules:
  - {protocol: udp, port: 7000, queue: calls}
routes:
  - {name: Calls, protocol: udp, port: 7000, uplink: mobile}
  - {name: Own, local: gateway, remote-port: 7100, uplink: mobile}
  - {name: Shared, remote-port: 7101, uplinks: {fibre: 3, mobile: 1}}
  - {name: Workshop, local: 10.7.0.102, uplink: mobile}
  - {name: Rest, uplink: fibre, else: mobile}
"""
UPLINKS = {"192.0.2.2": "fibre", "192.0.2.6": "mobile"}  # by the address that the far side sees
FAR, HOST = "198.51.100.10", Host("house", "10.7.0.100")
# Says who calls, and then echoes, so that a conversation can be held.
SERVER = """
import socket, sys, threading
def serve(one):
    with one:
        try:
            one.sendall((one.getpeername()[0] + chr(10)).encode())
            while data := one.recv(64):
                one.sendall(data)
        except OSError:
            pass
def stream(one):
    with one:
        try:
            while True:
                one.sendall(bytes(10000))
        except OSError:
            pass
def listen(port, target):
    end = socket.create_server(("198.51.100.10", port), backlog=256)
    while True:
        threading.Thread(target=target, args=(end.accept()[0],), daemon=True).start()
threads = [threading.Thread(target=listen, args=each) for each in ((7100, serve), (7101, serve), (7102, stream))]
for one in threads:
    one.start()
print("ready", flush=True)
"""
# Opens so many conversations, says by whom they came, and tries them all again when told to: what became of each.
CLIENT = """
import socket, sys
def said(one, word):
    try:
        one.sendall(word)
        return one.recv(64).decode().strip() or "closed"
    except OSError as error:
        return type(error).__name__
ends = []
for _ in range(int(sys.argv[2])):
    one = socket.create_connection(("198.51.100.10", int(sys.argv[1])), timeout=8, source_address=(sys.argv[3], 0))
    ends.append(one)
print(*(one.recv(64).decode().strip() for one in ends), flush=True)
for line in sys.stdin:
    print(*(said(one, b"again") for one in ends), flush=True)
"""

# Only listens, until that is over: says how it ended.
DOWNLOAD = """
import socket, sys
one = socket.create_connection(("198.51.100.10", int(sys.argv[2])), timeout=25, source_address=(sys.argv[1], 0))
try:
    while one.recv(100000):
        pass
    print("closed")
except OSError as error:
    print(type(error).__name__)
"""


def download(rig: Rig, address: str, where: str = "house", port: int = 7102) -> subprocess.Popen[str]:
    command = rig.command(where, [sys.executable, "-c", DOWNLOAD, address, str(port)])
    return subprocess.Popen(command, stdout=PIPE, text=True)


class Calls:
    """Conversations of a host, held open."""

    def __init__(self, rig: Rig, port: int, count: int = 1, host: Host = HOST) -> None:
        command = rig.command(host.network, [sys.executable, "-c", CLIENT, str(port), str(count), host.address])
        self.process = subprocess.Popen(command, stdin=PIPE, stdout=PIPE, text=True)
        self.by = [UPLINKS.get(word, word) for word in self._line()]

    def _line(self) -> list[str]:
        assert self.process.stdout is not None
        return self.process.stdout.readline().split()

    def again(self) -> list[str]:
        assert self.process.stdin is not None
        self.process.stdin.write("again\n")
        self.process.stdin.flush()
        return self._line()

    def end(self) -> None:
        self.process.kill()
        self.process.wait()


@contextmanager
def site(
    tmp_path: Path, plan: str = PLAN, beside: str = "true", before: Sequence[str] = ()
) -> Iterator[tuple[Rig, Running]]:
    file = tmp_path / "sluice.yaml"
    file.write_text(plan)
    with built(load(file), "routes", 10 * MILLISECOND) as rig:
        server = subprocess.Popen(rig.command("far", [sys.executable, "-c", SERVER]), stdout=PIPE)
        assert server.stdout is not None and server.stdout.readline()
        subprocess.run(rig.command("gateway", ["sh", "-ec", beside]), check=True)
        gate = Running(rig, tmp_path / "state", str(file), before=before).wait()
        rules = rig.command("gateway", ["ip", "rule", "list"])
        try:
            assert "fwmark" in subprocess.run(rules, capture_output=True, text=True, check=True).stdout
            yield rig, gate
        finally:
            gate.end()
            server.kill()
            server.wait()
        assert "lookup 710" not in subprocess.run(rules, capture_output=True, text=True, check=True).stdout


def test_conversations_take_the_uplinks_that_routes_choose_and_stay_there(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, gate):
        shared, rest = Calls(rig, 7101, 100), Calls(rig, 7100, 5)
        assert Counter(shared.by) == {"fibre": 75, "mobile": 25}
        assert Counter(rest.by) == {"fibre": 5}
        own = Calls(rig, 7100, 5, Host("gateway", "192.0.2.2"))
        assert Counter(own.by) == {"mobile": 5}
        for calls in (shared, rest, own):
            assert set(calls.again()) == {"again"}
            calls.end()
        now = gate.call("watch.now")["uplinks"]
        assert set(now) == {"fibre", "mobile"}


LIMITED = (
    PLAN.replace("up: 10 Mbit/s}", "up: 10 Mbit/s, refuses: [backups]}")
    .replace("rest: {default: true}", "backups: {weight: 1}, rest: {default: true}")
    .replace("rules:", """limiters:
  month: {uplink: mobile, per: together, quota: 9 MB per month, down: 9 Mbit/s, up: 9 Mbit/s}
rules:
  - {local: 10.7.0.102, queue: backups}
  - {local: 10.7.0.104, moved: over 100 kB, queue: backups}""")
    .replace("routes:", """routes:
  - {local: 10.7.0.104, uplink: mobile}
  - {name: Small, local: 10.7.0.103, uplink: mobile, while: under 10% of quota, else: fibre}""")
)  # fmt: skip


@pytest.mark.room
def test_quotas_and_refusals_lead_conversations_elsewhere(tmp_path: Path) -> None:
    with site(tmp_path, LIMITED) as (rig, gate):
        small, workshop = Host("house", "10.7.0.103"), Host("house", "10.7.0.102")
        backup = Calls(rig, 7100, 2, workshop)
        assert set(backup.by) == {"fibre"}  # its own route has but the uplink that refuses it
        first = Calls(rig, 7101, 2, small)
        assert set(first.by) == {"mobile"}
        finish(start_endpoint(rig, small, "load", "down", "--flows", 1, "--seconds", 3, "--warmup", 1))
        deadline = time.monotonic() + 5
        while "route.spent" not in [one["event"] for one in gate.call("gate.status")["events"]]:
            assert time.monotonic() < deadline
            time.sleep(0.2)
        second = Calls(rig, 7101, 2, small)
        assert set(second.by) == {"fibre"}
        assert set(first.again()) == {"again"}  # what is open stays on its line
        for calls in (backup, first, second):
            calls.end()
        # What turns out to be refused later ends soon, with little moved there.
        before, begun = received(rig, "wan1"), time.monotonic()
        assert download(rig, "10.7.0.104").communicate(timeout=30)[0] == "ConnectionResetError\n"
        assert time.monotonic() - begun < 8
        assert 100_000 < received(rig, "wan1") - before < 500_000


REMOVALS = {
    "rules": "ip rule flush protocol 171",
    "routes": "ip route flush table 7102",
    "link": "ip link set wan1 down; ip link set wan1 up",
    "addresses": "a=$(ip -4 -o address show wan1 | awk '{print $4}'); ip address flush wan1; ip address add $a dev "
    "wan1",
}


def test_what_others_remove_is_put_back_within_two_seconds_and_told(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, gate):
        for removal in REMOVALS.values():
            subprocess.run(rig.command("gateway", ["sh", "-ec", removal]), check=True)
            time.sleep(2)
            shown = [
                subprocess.run(rig.command("gateway", ["ip", *words]), capture_output=True, text=True, check=True)
                for words in (("rule", "list"), ("route", "show", "table", "7102"))
            ]
            rules, route = (done.stdout for done in shown)
            assert rules.count("lookup 710") >= 2 and "wan1" in route, removal
            deadline = time.monotonic() + 20  # a line that has lost its link is used again after ten seconds
            while gate.call("gate.status")["down"] and time.monotonic() < deadline:
                time.sleep(0.5)
            shared = Calls(rig, 7101, 40)
            assert Counter(shared.by) == {"fibre": 30, "mobile": 10}, removal
            shared.end()
        events = [event["event"] for event in gate.call("gate.status")["events"]]
        assert events.count("routes.repaired") >= len(REMOVALS)


# Two other programs: one routes by four bits of the mark, one writes another two.
OTHERS = """
ip rule add pref 28441 fwmark 0x1000000/0xf000000 lookup 99
iptables -t mangle -A PREROUTING -s 10.7.0.103 -j MARK --set-xmark 0x30000000/0x30000000
"""


@pytest.mark.parametrize("gate_settings", ["", "gate: {firewall-mark-bits: 17-23, routing-preference: 28437}\n"])
def test_marks_of_other_programs_are_reported_and_left_alone_in_another_field(
    tmp_path: Path, gate_settings: str
) -> None:
    with site(tmp_path, PLAN + gate_settings, OTHERS) as (rig, gate):
        shared, marked = Calls(rig, 7101, 40), Calls(rig, 7101, 40, Host("house", "10.7.0.103"))
        command = [sys.executable, "-m", "wily_sluice", "history", "--events", "--json", "--state", str(gate.state)]
        told = subprocess.run(command, capture_output=True, text=True, check=False)
        events = json.loads(told.stdout) if told.returncode == 0 else []  # nothing has happened yet
        found = [one["about"] for one in events if one["event"] == "routes.shared"]
        if gate_settings:
            assert found == []
            assert Counter(shared.by) == {"fibre": 30, "mobile": 10}
            assert Counter(marked.by) == {"fibre": 40}  # what another program marks is left to it
            assert set(shared.again()) == set(marked.again()) == {"again"}
        else:
            (event,) = found
            assert "routing rule 28441 uses bits 24-27" in event["why"]
            assert "chain PREROUTING of table mangle uses bits 28-29" in event["why"]
            assert (event["bits"], event["preference"]) == ("17-23", 28_437)
        for calls in (shared, marked):
            calls.end()
        rules = subprocess.run(
            rig.command("gateway", ["ip", "rule", "list"]), capture_output=True, text=True, check=True
        )
        assert "28441:" in rules.stdout


def received(rig: Rig, interface: str) -> int:
    file = f"/sys/class/net/{interface}/statistics/rx_bytes"
    return int(subprocess.run(rig.command("gateway", ["cat", file]), capture_output=True, text=True, check=True).stdout)


BESIDE = {}
BESIDE["iptables"] = """
iptables -P FORWARD DROP
iptables -A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT
iptables -A FORWARD -i lan0 -s 10.7.0.0/24 -j ACCEPT
iptables -t mangle -I PREROUTING -s 10.7.0.103 -j MARK --set-mark 1
iptables -t nat -A PREROUTING -d 192.0.2.2 -p tcp --dport 7200 -j DNAT --to-destination 10.7.0.102
iptables -t nat -A POSTROUTING -s 10.7.0.0/24 -d 10.7.0.102 -j MASQUERADE
iptables -A FORWARD -i lan0 -o lan0 -j ACCEPT
"""
BESIDE["nft"] = """
nft -f - <<'END'
table inet house {
  chain forward {
    type filter hook forward priority filter; policy drop
    ct state established,related accept
    iifname "lan0" ip saddr 10.7.0.0/24 accept
  }
  chain marking {
    type filter hook prerouting priority mangle - 10; ip saddr 10.7.0.103 meta mark set 1
  }
  chain inwards {
    type nat hook prerouting priority dstnat; ip daddr 192.0.2.2 tcp dport 7200 dnat ip to 10.7.0.102
  }
  chain outwards {
    type nat hook postrouting priority srcnat; ip saddr 10.7.0.0/24 ip daddr 10.7.0.102 masquerade
  }
}
END
"""
ROUTED = """
ip rule add pref 1000 fwmark 1 lookup 200
ip route add default via 192.0.2.5 table 200
"""
# Says by whom it was called, at a port of the house that is reached by the uplink's own address.
INSIDE = """
import socket
end = socket.create_server(("10.7.0.102", 7200))
print("ready", flush=True)
one, source = end.accept()
one.sendall(source[0].encode())
"""
HAIRPIN = """
import socket
print(socket.create_connection(("192.0.2.2", 7200), 5, ("10.7.0.100", 0)).recv(64).decode())
"""


@pytest.mark.parametrize("firewall", BESIDE)
def test_a_firewall_and_the_policy_routing_of_others_go_on_as_they_were(tmp_path: Path, firewall: str) -> None:
    with site(tmp_path) as (rig, gate):
        subprocess.run(rig.command("gateway", ["sh", "-ec", BESIDE[firewall] + ROUTED]), check=True)
        marked, usual = Calls(rig, 7100, 3, Host("house", "10.7.0.103")), Calls(rig, 7100, 3)
        assert (set(marked.by), set(usual.by)) == ({"mobile"}, {"fibre"})
        assert set(marked.again()) == set(usual.again()) == {"again"}
        for calls in (marked, usual):
            calls.end()
        # A host that reaches another by the address outside never leaves the house.
        command = rig.command("house", [sys.executable, "-c", INSIDE])
        with subprocess.Popen(command, stdout=PIPE, text=True) as inside:
            assert inside.stdout is not None and inside.stdout.readline()
            time.sleep(1.5)
            before = gate.call("gate.status")["condition"]["carried"]
            call = rig.command("house", [sys.executable, "-c", HAIRPIN])
            assert subprocess.run(call, capture_output=True, text=True, check=True).stdout == "10.7.0.1\n"
        time.sleep(1.5)
        assert gate.call("gate.status")["condition"]["carried"] == before == {"fibre": 3}
        assert "chain.bypassed" not in [one["event"] for one in gate.events()]


@pytest.mark.slow
def test_each_uplinks_tree_holds_while_both_are_full_both_ways(tmp_path: Path) -> None:
    with site(tmp_path) as (rig, _):
        # Acknowledgements of the other direction take some of each.
        usable = {HOST: 0.92 * 20e6, Host("house", "10.7.0.102"): 0.92 * 10e6}
        span = ("--flows", 4, "--seconds", 8, "--warmup", 5)

        def goodput() -> dict[tuple[Host, str], float]:
            loads = {
                (host, way): start_endpoint(rig, host, "load", way, *span) for host in usable for way in ("up", "down")
            }
            return {key: finish(load)["goodput"] * 1518 / 1448 for key, load in loads.items()}

        hold(goodput, lambda got: all(0.93 < rate / usable[host] < 1.0 for (host, _), rate in got.items()))


CUTS = {
    "link": (["ip", "link", "set", "near", "down"], ["ip", "link", "set", "near", "up"], 3.0),
    "silent": (["iptables", "-I", "FORWARD", "-j", "DROP"], ["iptables", "-D", "FORWARD", "-j", "DROP"], 6.0),
}


@pytest.mark.parametrize("kind", CUTS)
def test_else_takes_over_when_a_line_fails_and_calls_elsewhere_lose_nothing(tmp_path: Path, kind: str) -> None:
    cut, mend, soon_enough = CUTS[kind]
    with site(tmp_path) as (rig, gate):
        before = Calls(rig, 7100, 3)
        assert set(before.by) == {"fibre"}
        listening, own = download(rig, HOST.address), download(rig, "192.0.2.2", "gateway")
        call = start_endpoint(rig, HOST, "call", "--seconds", 20)
        time.sleep(2)
        subprocess.run(rig.command("line-fibre", cut), check=True)
        begun = time.monotonic()
        while "fibre" not in gate.call("gate.status")["condition"]["down"]:
            assert time.monotonic() - begun < soon_enough
            time.sleep(0.1)
        after = Calls(rig, 7100, 3)
        assert set(after.by) == {"mobile"}
        assert listening.communicate(timeout=5)[0] == "ConnectionResetError\n"
        assert own.communicate(timeout=5)[0] == "ConnectionAbortedError\n"
        assert "again" not in before.again()  # the far side refuses what it does not know: they end at once
        assert set(after.again()) == {"again"}
        subprocess.run(rig.command("line-fibre", mend), check=True)
        time.sleep(2)
        soon = Calls(rig, 7100, 2)
        assert set(soon.by) == {"mobile"}
        time.sleep(11.5)
        late = Calls(rig, 7100, 2)
        assert set(late.by) == {"fibre"}
        assert set(after.again()) == {"again"}
        assert call_result(finish(call)).loss == 0
        for calls in (before, after, soon, late):
            calls.end()
        words = [sys.executable, "-m", "wily_sluice", "history", "--events", "--state", str(gate.state), "--json"]
        told = json.loads(subprocess.run(words, capture_output=True, check=True).stdout)
        assert [(one["event"], one["about"]["uplink"]) for one in told][:2] == [
            ("uplink.back", "fibre"),
            ("uplink.down", "fibre"),
        ]


@pytest.mark.parametrize("loss", ["ip link set wan0 down", "ip link del wan0"])
def test_who_only_listens_notices_when_the_interface_goes_though_its_translation_is_forgotten(
    tmp_path: Path, loss: str
) -> None:
    """Within the restrictions of the service."""
    with site(tmp_path, before=confined(tmp_path / "state")) as (rig, _):
        listening = [download(rig, HOST.address, port=port) for port in (7100, 7102)]
        elsewhere = Calls(rig, 7100, 1, Host("house", "10.7.0.102"))
        assert elsewhere.by == ["mobile"]
        time.sleep(2)
        subprocess.run(rig.command("gateway", loss.split()), check=True)
        over = time.monotonic() + 6
        for one in listening:
            assert one.communicate(timeout=over - time.monotonic())[0] == "ConnectionResetError\n"
        assert elsewhere.again() == ["again"]
        elsewhere.end()


def test_a_line_whose_remotes_never_answer_is_used_while_conversations_over_it_are_answered(tmp_path: Path) -> None:
    with site(tmp_path, PLAN.replace("probe: [198.51.100.10]", "probe: [198.18.0.1]")) as (rig, gate):
        finish(start_endpoint(rig, HOST, "load", "down", "--flows", 1, "--seconds", 12, "--warmup", 1))
        status = gate.call("gate.status")
        assert status["condition"]["down"] == []
        assert [one["event"] for one in status["events"] if one["event"].startswith(("uplink", "probe"))] == [
            "probe.astray"
        ]
        assert status["notices"][0]["words"].startswith("198.18.0.1 give no answer over fibre, while conversations")
