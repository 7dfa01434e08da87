"""Evenings under plans as `sluice new` writes them, forecast and real: `python -m benchmarks.evening [SITE…]`.

Needs root. Six families and offices, each with the answers that they would give. All at once: a call, four uploads,
four downloads, a film, two connections of an update, and two of a guest where there are guests. On the rig every host
is sorted by a rule with its address, put before the others, since its traffic has no names; `sluice prove --rig` tries
the rules themselves. Prints each figure of the lab beside the rig's, and whether the ranking holds: a film gets no less
than an update or a guest, and the call is on time.
"""

import sys
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
import yaml

from benchmarks.floods import stolen
from benchmarks.truth import MOST_STOLEN, TRIES, Pair, of_lab, standing
from wily_sluice.forecast.lab.run import Lab
from wily_sluice.outside.files import load, load_traffic
from wily_sluice.outside.plan_edits import TextFile
from wily_sluice.plan.start.answers import read_answers
from wily_sluice.plan.start.write import write_plan
from wily_sluice.rig.rig import Rig
from wily_sluice.rig.trial import Host, finish, gate_running, start_endpoint
from wily_sluice.units import MILLISECOND

SECONDS, WARMUP, DELAY, BUFFER = 25, 10, 10, 200  # ms of delay, one way, and of buffer
GUESTS = {"network": "guests", "down": "5 Mbit/s", "up": "1 Mbit/s"}
HOME, BESIDE = "192.0.2", "198.51.100"
CALLS_FIRST = ["calls", "play"]
SITES: dict[str, dict[str, Any]] = {
    "gull-row": {"kind": "cable", "rates": (100, 20), "first": CALLS_FIRST, "guests": GUESTS, "when": ["18:00-23:00"]},
    "heron-cottage": {"kind": "copper-login", "rates": (62, 16), "first": ["play", "calls"]},
    "marsh-lane": {"kind": "cable", "rates": (80, 6), "first": ["calls", "web"], "guests": GUESTS},
    "curlew-yard": {"kind": "fibre-login", "rates": (28, 5.6), "first": ["meetings", "work"]},
    "reed-house": {"kind": "fibre", "rates": (180, 24), "first": ["streaming", "calls"], "guests": GUESTS},
    "dune-flat": {"kind": "radio", "rates": (40, 10), "first": ["calls", "web"], "alike": True},
}
# Name, kind, host of the house (or of guests), flows, queue.
CALLER = (101, "calls")
LOADS = (
    ("Uploads", "up", 102, 4, "downloads"),
    ("Downloads", "down", 103, 4, "downloads"),
    ("Film", "down", 104, 1, "streaming"),
    ("Update", "down", 105, 2, "updates"),
    ("Guest", "down", 100, 2, "guests"),
)


def plan_text(name: str) -> str:
    """The plan that follows from a site's answers, with a rule for each host before those of services."""
    site = SITES[name]
    down, up = site["rates"]
    answers = {
        "site": name,
        "uplinks": {"line": {"interface": "wan0", "kind": site["kind"],
                             "measured": {"down": f"{down} Mbit/s", "up": f"{up} Mbit/s"}}},
        "networks": {"home": {"interface": "lan0", "subnets": [f"{HOME}.0/24"]}},
        **{key: site[key] for key in ("first", "guests", "when", "alike") if key in site},
    }  # fmt: skip
    if "guests" in site:
        answers["networks"]["guests"] = {"interface": "lan1", "subnets": [f"{BESIDE}.0/24"]}
    text = write_plan(read_answers(TextFile(Path("answers"), yaml.safe_dump(answers).encode())))
    hosts = [("Call", CALLER[0], CALLER[1]), *((one[0], one[2], one[4]) for one in LOADS if one[0] != "Guest")]
    rules = "".join(f"  - {{name: By {n}, local: {HOME}.{host}, queue: {queue}}}\n" for n, host, queue in hosts)
    head, found, tail = text.partition("  - {name: Telephone calls")
    return head + rules + found + tail


def loads_of(name: str) -> list[tuple[str, str, Host, int]]:
    """What is sent at a site."""
    found = []
    for what, way, host, flows, _ in LOADS:
        if what != "Guest":
            found.append((what, way, Host("home", f"{HOME}.{host}"), flows))
        elif "guests" in SITES[name]:
            found.append((what, way, Host("guests", f"{BESIDE}.{host}"), flows))
    return found


def traffic_text(name: str) -> str:
    """The same for the lab."""
    down, up = SITES[name]["rates"]
    lines = [
        f"duration: {SECONDS + WARMUP} s", f"warmup: {WARMUP} s",
        f"lines: {{line: {{down: {down} Mbit/s, up: {up} Mbit/s, delay: {DELAY} ms, buffer: {BUFFER} ms}}}}",
        "applications:",
        f"  - {{name: Call, kind: call, local: {HOME}.{CALLER[0]}, remote: 203.0.113.9, port: 7000}}",
    ]  # fmt: skip
    for what, way, host, flows in loads_of(name):
        kind = "upload" if way == "up" else "download"
        far = "remote: 203.0.113.9, port: 7000"
        lines.append(f"  - {{name: {what}, kind: {kind}, flows: {flows}, local: {host.address}, {far}}}")
    return "\n".join(lines) + "\n"


def of_rig(rig: Rig, name: str) -> dict[str, float]:
    """The figures with real packets."""
    span = ("--seconds", SECONDS, "--warmup", WARMUP)
    loads = {
        what: start_endpoint(rig, host, "load", way, "--flows", flows, *span)
        for what, way, host, flows in loads_of(name)
    }
    time.sleep(WARMUP)
    call = finish(start_endpoint(rig, Host("home", f"{HOME}.{CALLER[0]}"), "call", "--seconds", SECONDS))
    found = {f"{what.lower()}, goodput": finish(end)["goodput"] / 1e6 for what, end in loads.items()}
    for way in ("up", "down"):
        for percent in (50, 95):
            found[f"call {way}, p{percent}"] = float(np.percentile(call[way], percent)) / MILLISECOND
    return found


def undisturbed(rig: Rig, name: str) -> dict[str, float]:
    """The same, measured again while the machine's host takes away what the gate needs."""
    for _ in range(TRIES):
        begun, taken = time.monotonic(), stolen()
        found = of_rig(rig, name)
        part = (stolen() - taken) / (time.monotonic() - begun)
        if part <= MOST_STOLEN:
            break
        print(f"{name}: {part:.2f} of a core stolen", file=sys.stderr)
    return found


def site(name: str, folder: Path) -> tuple[list[Pair], bool]:
    """All figures of one site with its plan, and whether its ranking holds on real packets."""
    file, traffic = folder / "plan.yaml", folder / "traffic.yaml"
    file.write_text(plan_text(name))
    traffic.write_text(traffic_text(name))
    plan = load(file)
    forecast = of_lab(Lab(plan, load_traffic(traffic, plan), shaped=True, begin=datetime.now(UTC)).run().rows)
    with standing(plan, DELAY, BUFFER) as rig, gate_running(rig, file):
        real = undisturbed(rig, name)
    pairs = [Pair(name, "with", what, np.array([forecast[what]]), np.array([real[what]])) for what in real]
    behind = [real[one] for one in ("update, goodput", "guest, goodput") if one in real]
    ranked = real["film, goodput"] >= max(behind) and max(real["call up, p95"], real["call down, p95"]) < DELAY + 20
    return pairs, ranked


def main(arguments: list[str]) -> None:
    """Print a row for each figure, and one sentence for each site."""
    print("| site | phase | figure | lab | rig | apart |\n|---|---|---|---|---|---|")
    agreeing = many = 0
    for name in arguments or SITES:
        with tempfile.TemporaryDirectory() as folder:
            pairs, ranked = site(name, Path(folder))
        for pair in pairs:
            print(pair.row, flush=True)
        agreeing += sum(pair.apart <= 1 for pair in pairs)
        many += len(pairs)
        print(f"{name}: the ranking {'holds' if ranked else 'does not hold'}", file=sys.stderr)
    print(f"{agreeing} of {many} figures agree", file=sys.stderr)


if __name__ == "__main__":
    main(sys.argv[1:])
