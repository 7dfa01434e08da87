"""What the doctor finds: each ailment by facts, and those that can be made by making them in a namespace."""

import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import replace
from ipaddress import ip_interface
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SMALL_PLAN
from wily_sluice.doctor.check import Change, Facts, Interface
from wily_sluice.doctor.examine import CHECKS, FixError, Journal, examine
from wily_sluice.plan.mark_field import MarkUse
from wily_sluice.plan.model import Plan

OTHER = "  other: {interface: wan1, down: 20 Mbit/s, up: 10 Mbit/s}\nschedules: {day: [mon-fri 08:00-18:00]}\n"
OTHER += "routes: [{uplink: line, else: other}]\nnetworks:"
PLAN = SMALL_PLAN.replace("networks:", OTHER)
WELL = Facts(
    {
        "wan0": Interface("wan0", True, 1500, speed=1_000_000_000, full_duplex=True),
        "wan1": Interface("wan1", True, 1500),
        "lan0": Interface("lan0", True, 1500, addresses=(ip_interface("10.7.0.1/24"), ip_interface("fd07::1/64"))),
        "lan1": Interface("lan1", True, 1500, addresses=(ip_interface("10.7.1.1/24"),)),
    },
    {4: ("wan0", "wan1"), 6: ("wan0",)},
    {
        "net/ipv4/ip_forward": "1",
        "net/ipv6/conf/all/forwarding": "1",
        "net/ipv6/conf/wan0/accept_ra": "2",
        "net/ipv4/conf/all/rp_filter": "0",
        "net/ipv4/conf/wan0/rp_filter": "2",
        "net/core/default_qdisc": "usual",
        "net/netfilter/nf_conntrack_max": "262144",
    },
    2,
    True,
)


def with_interface(name: str, **changes: Any) -> Facts:
    return replace(WELL, interfaces={**WELL.interfaces, name: replace(WELL.interfaces[name], **changes)})


def with_settings(**changes: str) -> Facts:
    return replace(
        WELL, settings={**WELL.settings, **{path.replace("__", "/"): text for path, text in changes.items()}}
    )


ILL: dict[str, tuple[Facts, str]] = {
    "interface-missing": (
        replace(WELL, interfaces={("lan9" if name == "lan0" else name): one for name, one in WELL.interfaces.items()}),
        "it may be lan9 now",
    ),
    "link-missing": (with_interface("wan1", link=False), "ip link set wan1 up"),
    "bridge-port": (with_interface("lan1", bridge="br0"), "name br0 in the plan"),
    "link-slower": (with_interface("wan0", speed=10_000_000), "10 Mbit/s, the plan at 20 Mbit/s"),
    "discipline-behind": (with_interface("wan0", discipline="odd"), "remove it (odd)"),
    "device-sleeps": (with_interface("lan0", sleeps=True), "power/control"),
    "card-merges": (with_interface("wan0", features=frozenset({"rx-lro"})), "ethtool -K wan0 rx-lro off"),
    "clamp-missing": (replace(with_interface("wan0", mtu=1492), clamps=False), "1492 bytes, hosts send 1500"),
    "forwarding-off": (with_settings(net__ipv4__ip_forward="0"), "net.ipv4.ip_forward to 1"),
    "forwarding-filtered": (replace(WELL, closed=(4,)), "iptables -A FORWARD -i lan0 -j ACCEPT"),
    "uplink-unnamed": (replace(WELL, ways_out={4: ("wan0", "wan7"), 6: ("wan0",)}), "interface: wan7"),
    "no-way-out": (replace(WELL, ways_out={4: ("wan0",), 6: ()}), "no default route of IPv6"),
    "no-address": (with_interface("lan1", addresses=()), "ip address add 10.7.1.1/24 dev lan1"),
    "advertisements-ignored": (
        with_settings(net__ipv6__conf__wan0__accept_ra="1"),
        "conf.wan0.accept_ra to 2",
    ),
    "marks-shared": (replace(WELL, mark_uses=(MarkUse("routing rule 9", 3 << 24),)), "firewall-mark-bits: 17-23}"),
    "reverse-path": (with_settings(net__ipv4__conf__wan0__rp_filter="1"), "conf.wan0.rp_filter to 2"),
    "not-translated": (replace(WELL, translated=("ppp*", "wan0")), "-o wan1 -j MASQUERADE"),
    "commands-missing": (replace(WELL, missing=("iptables", "ip6tables")), "install iptables"),
    "queue-missing": (replace(WELL, queue="Protocol not supported"), "nfnetlink_queue"),
    "not-compiled": (replace(WELL, slow="no C compiler (cc) was found when it was installed"), "python3-dev"),
    "bypass": (replace(WELL, flow_tables=("filter fast",)), "flow table filter fast"),
    "one-core": (replace(WELL, cores=1), "sluice gate cost"),
    "core-full": (replace(WELL, busy=0.92), "need 92%"),
    "clock-out-of-step": (replace(WELL, in_step=False), "time service"),
    "connections-few": (with_settings(net__netfilter__nf_conntrack_max="8192"), "512 hosts may well need 131,072"),
}


def test_every_ailment_is_tested() -> None:
    assert list(ILL) == [one.code for one in CHECKS]


@pytest.mark.parametrize("code", ILL)
def test_an_ailment_is_found_alone_where_it_is_and_nothing_where_all_is_well(
    code: str, small_plan: Callable[..., Plan]
) -> None:
    plan = small_plan(("networks:", OTHER))
    assert examine(plan, WELL) == []
    facts, said = ILL[code]
    (found,) = examine(plan, facts)
    assert found.ailment.code == code
    assert said in f"{found.found.message} → {found.found.remedy}"


def test_what_is_changed_is_put_back_in_the_end_even_if_it_was_changed_twice(tmp_path: Path) -> None:
    one, other = tmp_path / "one", tmp_path / "other"
    one.write_text("0\n")
    other.write_text("7")
    journal = Journal(tmp_path, lambda file, text: file.write_text(text) and None)
    assert journal.fix([Change(str(one), "1"), Change(str(other), "7")]) == [Change(str(one), "1")]
    journal.fix([Change(str(one), "2"), Change(str(other), "8")])
    with pytest.raises(FixError, match="cannot be read"):
        journal.fix([Change(str(tmp_path / "none"), "1")])
    assert (one.read_text(), other.read_text()) == ("2", "8")
    assert journal.undo() == [Change(str(other), "7"), Change(str(one), "0")]
    assert (one.read_text(), other.read_text()) == ("0", "7")
    assert journal.undo() == []
    journal.fix([Change(str(one), "1")])
    with pytest.raises(FixError, match="another network namespace"):
        Journal(tmp_path, lambda file, text: None, "7").undo()
    (tmp_path / "doctor.json").write_text("[]")
    with pytest.raises(FixError, match="not a journal"):
        journal.undo()


# On a site where all is well: how to make it ill, and what is so again when that was mended and taken back.
MAKES: dict[str, tuple[str, str]] = {
    "interface-missing": ("ip link del wan1", ""),
    "link-missing": ("ip link set x0 down", ""),
    "bridge-port": ("ip link add br0 type bridge && ip link set lan1 master br0", ""),
    "forwarding-off": ("echo 0 > /proc/sys/net/ipv6/conf/all/forwarding", "cat /proc/sys/net/ipv6/conf/all/forwarding"),
    "forwarding-filtered": (
        "iptables -P FORWARD DROP; iptables -A FORWARD -m conntrack --ctstate ESTABLISHED -j ACCEPT", ""
    ),
    "uplink-unnamed": ("ip link add w7 type veth && ip link set w7 up && ip route add default dev w7 metric 9", ""),
    "no-way-out": ("ip -6 route del default", ""),
    "no-address": ("ip address del 10.7.1.1/24 dev lan1", ""),
    "advertisements-ignored": (
        "echo 1 > /proc/sys/net/ipv6/conf/wan0/accept_ra", "cat /proc/sys/net/ipv6/conf/wan0/accept_ra"
    ),
    "clamp-missing": ("ip link set wan0 mtu 1492", ""),
    "not-translated": ("iptables -t nat -D POSTROUTING -o wan1 -j MASQUERADE", ""),
    "marks-shared": ("ip rule add pref 9 fwmark 0x2000000/0x3000000 lookup 99", ""),
    "reverse-path": (
        "echo 1 > /proc/sys/net/ipv4/conf/all/rp_filter; echo 0 > /proc/sys/net/ipv4/conf/wan0/rp_filter",
        "cat /proc/sys/net/ipv4/conf/wan0/rp_filter",
    ),
}  # fmt: skip
SITE = """
for n in wan0:x0 wan1:x1 lan0:y0 lan1:y1; do
  ip link add ${n%:*} type veth peer name ${n#*:} && ip link set ${n%:*} up && ip link set ${n#*:} up
done
ip address add 192.0.2.2/30 dev wan0; ip address add 192.0.2.6/30 dev wan1
ip address add 10.7.0.1/24 dev lan0; ip address add fd07::1/64 dev lan0 nodad; ip address add 10.7.1.1/24 dev lan1
ip -6 address add 2001:db8::2/64 dev wan0 nodad
ip route add default via 192.0.2.1; ip route add default via 192.0.2.5 metric 50
ip -6 route add default via 2001:db8::1
echo 1 > /proc/sys/net/ipv4/ip_forward; echo 1 > /proc/sys/net/ipv6/conf/all/forwarding
for n in wan0 wan1; do
  echo 2 > /proc/sys/net/ipv6/conf/$n/accept_ra; iptables -t nat -A POSTROUTING -o $n -j MASQUERADE
done
"""


@pytest.fixture
def namespace() -> Iterator[str]:
    name = f"sluice-doctor{os.getpid()}"
    subprocess.run(["ip", "netns", "add", name], check=True)
    yield name
    subprocess.run(["ip", "netns", "del", name], check=True)


@pytest.mark.live
@pytest.mark.parametrize("code", MAKES)
def test_an_ailment_that_is_made_is_found_mended_and_taken_back(code: str, namespace: str, tmp_path: Path) -> None:
    def inside(*command: str) -> subprocess.CompletedProcess[str]:
        words = ["ip", "netns", "exec", namespace, *command]
        return subprocess.run(words, capture_output=True, text=True, check=False, cwd=tmp_path)

    def doctor(*options: str) -> dict[str, list[dict[str, Any]]]:
        command = [
            sys.executable,
            "-m",
            "wily_sluice",
            "doctor",
            "--json",
            "--state",
            str(tmp_path / "state"),
            *options,
        ]
        done = inside(*command)
        found: dict[str, list[dict[str, Any]]] = json.loads(done.stdout)
        errors = any(one["severity"] == "error" for one in found["complaints"])
        assert done.returncode == (2 if errors else 0), done.stderr
        return found

    def codes(found: dict[str, list[dict[str, Any]]]) -> set[str]:
        return {one["code"] for one in found["complaints"]} - {"clock-out-of-step", "one-core", "not-compiled"}

    (tmp_path / "sluice.yaml").write_text(PLAN)
    make, state = MAKES[code]
    assert inside("sh", "-ec", SITE).returncode == 0
    assert codes(doctor()) == set()
    assert inside("sh", "-ec", make).returncode == 0
    before = inside("sh", "-c", state).stdout
    assert codes(doctor()) >= {code}
    if not state:
        return
    mended = doctor("--fix")
    assert code not in codes(mended)
    assert mended["changed"]
    assert inside("sh", "-c", state).stdout != before
    doctor("--undo")
    assert inside("sh", "-c", state).stdout == before
    assert codes(doctor()) == {code}


@pytest.mark.live
def test_a_cards_feature_is_switched_and_put_back(namespace: str, tmp_path: Path) -> None:
    script = """
import sys
from pathlib import Path
from wily_sluice.doctor import features
from wily_sluice.doctor.check import Change
from wily_sluice.doctor.examine import Journal, FixError
journal = Journal(Path(sys.argv[1]), lambda file, text: file.write_text(text) and None)
path = features.path_of("v0", "rx-gro")
print(features.read(path), end=" ")
journal.fix([Change(path, "on")])
print(features.read(path), end=" ")
journal.undo()
print(features.read(path), end=" ")
try:
    journal.fix([Change(features.path_of("v0", "rx-lro"), "on")])
except FixError as error:
    print(error)
"""
    subprocess.run(["ip", "-n", namespace, "link", "add", "v0", "type", "veth"], check=True)
    words = ["ip", "netns", "exec", namespace, sys.executable, "-c", script, str(tmp_path)]
    told = subprocess.run(words, capture_output=True, text=True, check=True).stdout
    assert told.startswith("off on off ethtool/v0/rx-lro cannot be written: v0 keeps rx-lro off")


RULES = """
iptables -t mangle -A FORWARD -p tcp --tcp-flags SYN,RST SYN -j TCPMSS --clamp-mss-to-pmtu
iptables -t nat -A POSTROUTING -o wan0 -j MASQUERADE
iptables -t nat -A POSTROUTING -o ppp+ -s 10.0.0.0/8 -j SNAT --to 192.0.2.9
ip6tables -t nat -A POSTROUTING -o wan6 -j MASQUERADE
nft -f - <<'END'
table inet house {
  chain outwards {
    type nat hook postrouting priority srcnat
    oifname "wan1" masquerade
    oif "lo" snat ip to 192.0.2.3
  }
  chain inwards { type nat hook prerouting priority dstnat; oifname "wan5" accept; }
}
END
"""


@pytest.mark.live
def test_what_rules_clamp_and_translate_is_seen(namespace: str) -> None:
    script = "from wily_sluice.doctor.look import facts; f = facts(); print(f.clamps, f.flow_tables, *f.translated)"
    inside = ["ip", "netns", "exec", namespace]

    def seen() -> str:
        words = [*inside, sys.executable, "-c", script]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout

    assert seen() == "False ()\n"
    subprocess.run([*inside, "sh", "-ec", RULES], check=True)
    assert set(seen().split()) == {"True", "()", "wan0", "ppp*", "wan1", "lo"}
    subprocess.run([*inside, "nft", "add rule inet house outwards oifname { wan2, wan3 } masquerade"], check=True)
    assert "*" in seen().split()


@pytest.mark.live
def test_a_filter_that_admits_somebody_is_not_taken_for_closed(namespace: str) -> None:
    script = "from wily_sluice.doctor.look import facts; print(facts().closed)"
    inside = ["ip", "netns", "exec", namespace]

    def closed_after(commands: str) -> str:
        subprocess.run([*inside, "sh", "-ec", commands], check=True)
        words = [*inside, sys.executable, "-c", script]
        return subprocess.run(words, capture_output=True, text=True, check=True).stdout.strip()

    assert closed_after("ip6tables -P FORWARD DROP; ip6tables -A FORWARD -j LOG; iptables -P INPUT DROP") == "(6,)"
    assert closed_after("ip6tables -A FORWARD -i lan0 -j ACCEPT") == "()"
    assert closed_after("iptables -P FORWARD DROP; iptables -N HOUSE; iptables -A FORWARD -j HOUSE") == "()"
    # A rule that asks for the state of a connection admits whoever is new, unless it leaves that state out.
    rule = "iptables -F FORWARD; iptables -A FORWARD -m conntrack --ctstate"
    assert closed_after(f"{rule} ESTABLISHED,RELATED -j ACCEPT") == "(4,)"
    assert closed_after(f"{rule} NEW,ESTABLISHED -j ACCEPT") == "()"
    chain = "chain f { type filter hook forward priority 0; policy drop; ct state established accept; }"
    assert closed_after(f"nft 'table inet t {{ {chain}; }}'") == "(4, 6)"
    assert closed_after("nft add rule inet t f ct state new accept") == "()"


def test_the_page_tells_of_every_ailment() -> None:
    page = (Path(__file__).parents[2] / "docs" / "doctor.md").read_text()
    assert [line for line in page.splitlines() if line.startswith("| `")] == [
        f"| `{one.code}` | {one.severity} | {one.story} |" for one in CHECKS
    ]
