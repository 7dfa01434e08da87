"""Records docs/first-ten-minutes.md from the real program: `python -m tools.make_first_ten_minutes` (root).

The program runs on a terminal, in a network namespace with the interfaces of a small gateway, and what it prints is the
page. Only the words between are written here.
"""

import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pexpect

PAGE = Path(__file__).parents[1] / "docs" / "first-ten-minutes.md"
PROGRAM = str(Path(sys.executable).with_name("sluice"))
NAMESPACE = "sluice-first"
INTERFACES = {"wan0": "203.0.113.2/30", "lan0": "192.0.2.1/24", "lan1": "198.51.100.1/24"}
ANSWERS = [
    ("name of the site", "Heron Cottage"), ("time zone", "Europe/Dublin"), ("kind", "3"), ("name", ""),
    ("interface", ""), ("advertised", "80/20"), ("measured", "62/16"), ("another uplink", ""), ("interface", ""),
    ("subnets", ""), ("name", ""), ("another network", "y"), ("interface", ""), ("subnets", ""), ("name", ""),
    ("another network", ""), ("first", "calls play"), ("films", "films.example"),
    ("limit guests", ""), ("network", ""), ("at most", "4/1"),
    ("limit one host", ""), ("hosts share equally", ""), ("when", ""),
]  # fmt: skip
STEPS: list[tuple[str, list[str]]] = [
    (
        "## 3. Read the plan\n\nThe plan is a file with a comment at every figure:",
        ["cat sluice.yaml"],
    ),
    ("Rules and limiters as sentences:", ["sluice show rules", "sluice show limiters"]),
    (
        "## 5. Ask why\n\nThe meaning of a term, with examples from this plan; the reason for a queue's rate; the "
        "queue of a conversation:",
        [
            "sluice explain headroom",
            "sluice split --why play",
            "sluice classify --local 192.0.2.40 --remote 203.0.113.9:5060/udp",
        ],
    ),
    (
        "## 7. Change something\n\nFrom the command line, with the comments left in place; a mistake is refused, and "
        "any edit can be undone:",
        [
            "sluice edit limiter set guest-each down='3 Mbit/s'",
            "sluice edit queue set calls guarantee=95%",
            "sluice edit undo",
        ],
    ),
    (
        "## 9. Be warned\n\nA plan with a risk, the story behind the warning, and how to accept it if you know better:",
        ["sluice edit uplink set copper headroom=0%", "sluice explain little-headroom", "sluice edit undo"],
    ),
]
HEAD = """\
# The first ten minutes

On a gateway with one uplink and two networks: commands and their output.

## 1. Answer a few questions

Press Enter to accept the answer in brackets. `?` explains, `back` returns to the previous question.
"""
TAIL = """\
## 10. Shape real packets

As root, on the gateway: the capacity of the machine, the gate itself, and its state.

    sudo sluice gate cost
    sudo sluice gate run
    sudo sluice watch

Later changes go on trial: `sudo sluice apply`, then `sudo sluice keep`; otherwise the previous plan returns automatically. What
else there is to do: [recipes](recipes/README.md).
"""
ESCAPES = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]")


def block(text: str) -> str:
    lines = [line.rstrip() for line in ESCAPES.sub("", text).replace("\r", "").split("\n")]
    return "\n".join(f"    {line}".rstrip() for line in lines).strip("\n") + "\n"


@contextmanager
def gateway() -> Iterator[None]:
    """The namespace, with the interfaces of a small gateway in it."""
    for line in (
        f"netns add {NAMESPACE}",
        *(f"-n {NAMESPACE} link add {n} type veth peer name x{n}" for n in INTERFACES),
    ):
        subprocess.run(["ip", *line.split()], check=True)
    try:
        for name, address in INTERFACES.items():
            for words in (f"link set {name} up", f"address add {address} dev {name}"):
                subprocess.run(["ip", "-n", NAMESPACE, *words.split()], check=True)
        subprocess.run(["ip", "-n", NAMESPACE, "route", "add", "default", "via", "203.0.113.1"], check=True)
        yield
    finally:
        subprocess.run(["ip", "netns", "delete", NAMESPACE], check=True)


def main() -> None:
    with gateway():
        PAGE.write_text(record())


def record() -> str:
    with tempfile.TemporaryDirectory() as folder:
        environment = {
            **os.environ, "TERM": "dumb", "COLUMNS": "100", "XDG_STATE_HOME": f"{folder}/state",
            "PATH": f"{Path(PROGRAM).parent}:{os.environ['PATH']}",
        }  # fmt: skip
        environment.pop("SLUICE_PLAN", None)
        parts = [HEAD, *talk(folder, environment)]
        number = 2
        for words, commands in STEPS:
            number += words.startswith("## ")
            parts.append(re.sub(r"^## \d+", f"## {number}", words) + "\n")
            for command in commands:
                out, _ = pexpect.run(
                    f"ip netns exec {NAMESPACE} sh -c {quoted(command)}", cwd=folder, env=environment, timeout=60,
                    encoding="utf-8", withexitstatus=True,
                )  # fmt: skip
                parts.append(block(f"$ {command}\n{out}"))
        parts.append(TAIL.replace("## 10", f"## {number + 1}"))
    return "\n".join(parts)


def quoted(command: str) -> str:
    return '"' + command.replace('"', '\\"') + '"'


def talk(folder: str, environment: dict[str, str]) -> list[str]:
    """The questions and the answers, and then what the program shows of the plan."""
    program = ["netns", "exec", NAMESPACE, PROGRAM, "new"]
    talking = pexpect.spawn("ip", program, cwd=folder, env=environment, encoding="utf-8", timeout=300)
    talking.setwinsize(60, 100)
    heard = ""
    for prompt, answer in ANSWERS:
        talking.expect(rf"{prompt}[^\r\n>]*> ")
        heard += talking.before + talking.after
        talking.sendline(answer)
    talking.expect("no warnings")
    heard, found = heard + talking.before.rpartition("sluice.yaml")[0], "sluice.yaml: no errors, no warnings\n"
    talking.expect(r"Write sluice.yaml[^>]*> ")
    found += talking.before + talking.after
    talking.sendline("")
    talking.expect(pexpect.EOF)
    seen = "\n## 2. See the forecast\n\nBefore anything is written, the plan is checked, divided and simulated:\n"
    return [block(f"$ sluice new\n{heard}"), seen, block(found + talking.before)]


if __name__ == "__main__":
    main()
