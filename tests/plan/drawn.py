"""Plans that are drawn: one to three lines, trees that they share, limiters of all kinds, routes, schedules, quotas."""

from collections.abc import Iterator
from copy import deepcopy
from random import Random
from typing import Any

import yaml

from wily_sluice.plan.file.document import Document
from wily_sluice.plan.file.source import Kept
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.model import Plan
from wily_sluice.plan.read import examine, examine_document

Data = dict[str, Any]
LINES, TREES, LEAVES = ("fibre", "mobile", "copper"), ("main", "small"), ("calls", "web", "bulk/files", "bulk/rest")
HOSTS = ("house", "guests", "desk", "phones", "tills", "10.7.0.9", "10.7.1.0/28", "fd07::5", "not-mine", "old")
REMOTES = ("203.0.113.0/24", "203.0.113.9", "far", "*.films.example", "www.films.example", "2001:db8:5::/48")
WHEN, NAMES = ("open", "night", "fair", "never-mind"), ("A", "B", "C", "D")
SERVICES = ("calls", "web", "league", "swarms")
PORTS = (80, 443, "5004-5005", "8000-8100", "53/udp", "443/tcp", [80, 443], ["53/udp", "53/tcp"], "odd")
RATES = ("200 kbit/s", "1 Mbit/s", "6 Mbit/s", "12 Mbit/s", "46 Mbit/s", "60 Mbit/s", "110 Mbit/s")
BOTH = ({"up": "6 Mbit/s"}, {"up": "3 Mbit/s", "down": "9 Mbit/s"}, {"down": "20%"})

# What may stand at each key; where a key is drawn, None leaves it out.
UPLINK: Data = {
    "down": ("50 Mbit/s", "10 Mbit/s", "8 to 20 Mbit/s", "46 Mbit/s"),
    "up": ("10 Mbit/s", "4 Mbit/s", "2 to 5 Mbit/s", "50 Mbit/s"),
    "headroom": (None, "8%", "10%", {"up": "5%", "down": "12%"}),
    "framing": (None, "ethernet", "pppoe over ptm"),
    "advertised": (None, {"down": "55 Mbit/s", "up": "11 Mbit/s"}),
    "honours-marks": (None, True),
    "next-hop": (None, ["192.0.2.1"]),
    "tree": ("main", "small", {"up": "small", "down": "main"}),
    "refuses": (None, None, None, ["files"]),
    "probe": (["198.51.100.10"], {"remotes": ["198.51.100.10"], "lost": 5}),
}
QUEUE: Data = {
    "guarantee": (None, "20%", "10%", "1 Mbit/s", *BOTH),
    "cap": (None, None, "50%", "6 Mbit/s", "60 Mbit/s", *BOTH),
    "priority": (None, 1, 5, 7),
    "weight": (None, 1, 2, 0.5),
}
LEAF: Data = QUEUE | {
    "aqm": (None, None, "fq-codel", "codel", "fifo"),
    "ecn": (None, None, False),
    "limit": (None, None, "200 packets", "100 kB"),
    "delay": (None, None, "10 ms"),
}
MISPLACED = {("guarantee", "strict"), ("delay", "strict"), ("delay", "weighted"), ("priority", "curve")}
TERMS: Data = {
    "local": (None, *HOSTS, ["phones", "tills"]),
    "remote": (None, None, None, *REMOTES, ["203.0.113.0/25", "203.0.113.128/25"]),
    "network": (None, None, None, "house", "guests"),
    "protocol": (None, None, "udp", "tcp", ["tcp", "udp"], "icmp"),
    "port": (None, None, *PORTS),
    "service": (None, None, None, *SERVICES, ["web", "league"]),
}
RULE: Data = TERMS | {
    "queue": (*LEAVES, {"main": "calls", "small": "web"}, {"main": "files"}),
    "mark": (None, None, "EF", "AF41"),
    "dscp": (None, None, None, "EF", ["EF", "AF41"]),
    "uplink": (None, None, None, "fibre", ["fibre", "mobile"]),
    "when": (None, None, *WHEN),
    "remote-port": (None, None, None, *PORTS),
    "local-port": (None, None, None, *PORTS),
    "version": (None, None, None, 4, 6),
    "moved": (None, None, None, "over 20 MB", "under 2 MB"),
    "any": (None, None, None, [{"port": 22}, {"local": "desk"}]),
    "not": (None, None, None, {"local": "tills"}, [{"remote": "far"}, {"port": 443}]),
    "enabled": (None, None, None, False),
    "note": (None, None, None, "why"),
    "name": (None, *NAMES),
}
LIMITER: Data = TERMS | {
    "down": (None, *RATES),
    "up": (None, *RATES),
    "per": (None, "host", "together", "address", "conversation", "subnet/28", "network"),
    "uplink": (None, None, "fibre", "mobile"),
    "burst": (None, None, "20 kB", "62.5 kB", "100 ms"),
    "excess": (None, None, "wait", "drop", "mark AF11"),
    "peak": (None, None, None, "110 Mbit/s", {"down": "70 Mbit/s"}),
    "excess-burst": (None, None, None, "30 kB"),
    "round-trip": (None, None, None, "20 ms"),
    "engage": (None, None, None, "above 80%"),
    "when": (None, None, *WHEN),
    "quota": (None, None, "40 GB per month", "2 GB per day"),
    "from": (None, None, None, "80%"),
    "enabled": (None, None, None, False),
    "note": (None, None, None, "why"),
}
ROUTE: Data = {key: RULE[key] for key in (*TERMS, "when", "version", "enabled", "note", "name")} | {
    "uplink": LINES,
    "else": (None, None, "mobile", "copper"),
    "while": (None, None, None, "under 80% of month"),
}
MAPPING: Data = {
    "local": HOSTS[:6],
    "protocol": (None, "udp", "tcp"),
    "port": ("3000-3099", [4000, 4002]),
    "count": (None, 4, 9),
    "lifetime": (None, "2 h", "1 h"),
    "uplink": (None, "fibre", "mobile"),
    "service": (None, "league"),
    "enabled": (None, None, False),
    "name": (None, *NAMES),
}
KINDS = {"rules": RULE, "limiters": LIMITER, "routes": ROUTE, "mappings": MAPPING, "uplinks": UPLINK}
GATE: Data = {
    "metrics": (None, 9797, 9798),
    "watchers": (None, "everyone", "staff"),
    "probe": (None, ["198.51.100.10"]),
    "keep-contacts": (None, "7 days", "2 days"),
    "ipfix": (None, "192.0.2.9"),
    "routing-preference": (None, 21300, 21400),
}
SCHEDULES = {
    "open": (
        ["mon-fri 08:00-18:00"],
        ["mon-fri 08:10-08:25", "sat 09:00-13:00"],
        ["mon-fri 08:00-18:00", "until 2099-12-31"],
    ),
    "night": (["22:00-06:00"], ["22:00-06:00", "not 2026-12-24 to 2026-12-26"]),
    "fair": (["2027-06-01 to 2027-06-04"], ["from 2027-06-01", "until 2027-06-04", "10:00-23:00"]),
    "never-mind": (["wed"], ["wed", "thu"]),
}
GROUPS = {
    "phones": (["10.7.0.40-10.7.0.59"], ["10.7.0.40-10.7.0.60"]),
    "tills": (["02:00:5e:10:00:21"], ["02:00:5e:10:00:21", "10.7.0.70"]),
    "not-mine": ({"members": ["house"], "except": ["desk"]}, {"members": ["house"], "except": ["phones"]}),
    "far": (["203.0.113.64/26", "ftp.films.example"], ["203.0.113.64/26"]),
    "odd": ({"ports": [9000, "9100-9110"]}, {"ports": [9000]}),
    "old": (["10.7.0.200-10.7.0.210"],),
}


def chosen(drawn: Random, table: Data) -> Data:
    """A value for each key, or none."""
    values = {key: drawn.choice(values) for key, values in table.items()}
    return {key: deepcopy(value) for key, value in values.items() if value is not None}


def children(drawn: Random, discipline: str, names: tuple[str, ...]) -> Data:
    """Queues that may stand below a parent of a discipline; the last is the default."""
    table = {key: values for key, values in LEAF.items() if (key, discipline) not in MISPLACED}
    leaves = {name: chosen(drawn, table) for name in names}
    leaves[names[-1]]["default"] = True
    return leaves


def tree(drawn: Random) -> Data:
    above, below = drawn.choice(("weighted", "weighted", "strict", "curve")), drawn.choice(("weighted", "strict"))
    bulk = {key: value for key, value in chosen(drawn, QUEUE).items() if (key, above) not in MISPLACED}
    bulk |= {"queues": children(drawn, below, ("files", "rest")), "discipline": below}
    leaves = children(drawn, above, ("calls", "web"))
    leaves["web"].pop("default")
    return {"queues": leaves | {"bulk": bulk}, "discipline": above}


def sparing(drawn: Random, table: Data, most: int, keys: tuple[str, ...]) -> Data:
    """These keys, and a few of the others."""
    few = {key: table[key] for key in table if key in keys or drawn.random() < most / len(table)}
    return chosen(drawn, few)


def drawn_plan(drawn: Random) -> Data:
    """The data of a plan, which may have errors."""
    lines = LINES[: drawn.randint(1, 3)]
    uplinks = {name: chosen(drawn, UPLINK) | {"interface": f"wan{n}"} for n, name in enumerate(lines)}
    limiters = {
        f"cap-{n}": sparing(drawn, LIMITER, 3, ("local", "down", "up", "per")) for n in range(drawn.randint(0, 3))
    }
    limiters["month"] = {"local": "house", "per": "together", "down": "1 Mbit/s", "quota": "40 GB per month"}
    plan: Data = {
        "site": drawn.choice(("Saltmarsh Veterinary", "Reed End")),
        "timezone": drawn.choice(("UTC", "Europe/Dublin")),
        "uplinks": uplinks,
        "networks": {
            "house": {"interface": "lan0", "subnets": ["10.7.0.0/24", "fd07::/64"]},
            "guests": {"interface": "lan1", "subnets": ["10.7.1.0/24"]},
        },
        "hosts": {"desk": ["10.7.0.9"]},
        "groups": {name: drawn.choice(values) for name, values in GROUPS.items()},
        "schedules": {name: drawn.choice(values) for name, values in SCHEDULES.items()},
        "services": {"league": {"ports": ["41100-41120/udp"], "names": ["*.league.example"]}},
        "trees": {name: tree(drawn) for name in TREES},
        "limiters": limiters,
        "rules": [sparing(drawn, RULE, 4, ("queue", "name")) for _ in range(drawn.randint(1, 5))],
        "routes": [
            sparing(drawn, ROUTE | {"uplink": lines}, 3, ("uplink", "name")) for _ in range(drawn.randint(0, 2))
        ],
        "mappings": [sparing(drawn, MAPPING, 4, ("local", "port")) for _ in range(drawn.randint(0, 2))],
        "gate": sparing(drawn, GATE, 1, ()),
    }
    return {key: value for key, value in plan.items() if value}


def drawn_value(drawn: Random, table: Data) -> tuple[str, Any]:
    key = drawn.choice(list(table))
    return key, drawn.choice(table[key])


def put(part: Data, key: str, value: Any) -> None:
    """Set a key, or take it out."""
    part.pop(key, None)
    if value is not None:
        part[key] = deepcopy(value)


def queues_of(entry: Data) -> Iterator[Data]:
    for queue in entry.get("queues", {}).values():
        yield queue
        yield from queues_of(queue)


def changed(drawn: Random, before: Data) -> Data:
    """The same with one thing changed, somewhere; it may still mean the same."""
    while (data := _changed(drawn, before)) == before:
        pass
    return data


def _changed(drawn: Random, before: Data) -> Data:
    data = deepcopy(before)
    more = ("rules", "limiters", "trees", "trees", "groups", "schedules", "gate", "site", "order")
    section = drawn.choice([*KINDS, *more])
    if section in KINDS:
        parts = data.get(section) or {}
        some = list(parts.values()) if isinstance(parts, dict) else parts
        if some:
            put(drawn.choice(some), *drawn_value(drawn, KINDS[section]))
    elif section == "trees":
        changing = drawn.choice(list(data["trees"].values()))
        every = list(queues_of(changing))
        leaves = [queue for queue in every if "queues" not in queue]
        if drawn.random() < 0.2:
            changing["discipline"] = drawn.choice(("weighted", "strict", "curve"))
        elif drawn.random() < 0.2:
            for each in leaves:
                each.pop("default", None)
            drawn.choice(leaves)["default"] = True
        else:
            put(drawn.choice(every), *drawn_value(drawn, LEAF))
    elif section in ("groups", "schedules"):
        table: Data = GROUPS if section == "groups" else SCHEDULES
        name = drawn.choice(list(table))
        data[section][name] = drawn.choice(table[name])
    elif section == "gate":
        data["gate"] = sparing(drawn, GATE, 2, ())
    elif section == "site":
        data["timezone"] = drawn.choice(("UTC", "Europe/Dublin"))
    else:
        listed = data.get(drawn.choice(("rules", "routes", "mappings"))) or data["rules"]
        if drawn.random() < 0.4:
            listed.insert(drawn.randint(0, len(listed)), deepcopy(drawn.choice(listed)))
        elif drawn.random() < 0.5 and len(listed) > 1:
            listed.pop(drawn.randrange(len(listed)))
        else:
            drawn.shuffle(listed)
    return data


def text_of(data: Data) -> str:
    """As a file."""
    return yaml.dump(data, Dumper=yaml.CSafeDumper, sort_keys=False, allow_unicode=True)


def plan_of(data: Data) -> tuple[Plan | None, list[Finding]]:
    """The plan of some data, and its errors."""
    return examine_document(Document("sluice.yaml", deepcopy(data)), warnings=False)


def examined(text: str) -> tuple[Plan | None, list[Finding]]:
    """The plan, and all that is found."""
    return examine(Kept("sluice.yaml", text.encode()))


def sound_plan(drawn: Random) -> tuple[str, Data, Plan]:
    """A plan without errors: what is wrong is taken out, or another is drawn."""
    while True:
        data = drawn_plan(drawn)
        for _ in range(4):
            plan, findings = plan_of(data)
            if plan is not None:
                return text_of(data), data, plan
            for key in sorted({finding.key for finding in findings}, reverse=True):
                _without(data, key)


def _without(data: Data, key: str) -> bool:
    """Take out what a finding is about; whether that can be."""
    here: Any = data
    parts = key.replace("[", ".").replace("]", "").split(".")
    for number, word in enumerate(parts):
        last = number == len(parts) - 1
        if isinstance(here, list):
            index = int(word) - 1
            if last or not isinstance(here[index], dict):
                del here[index]
                return True
            here = here[index]
        elif isinstance(here, dict) and word in here:
            if last and number:
                del here[word]
                return True
            here = here[word]
        else:
            return False
    return False
