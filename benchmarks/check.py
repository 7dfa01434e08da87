"""How the time that `sluice check` takes grows with a plan: `python -m benchmarks.check`.

Plans of rules for hosts, for subnets with a port, and for remotes with a range of ports, a third each; and one of
queues with a rule for each. Times of reading and checking in this process, the best of three, over that of 300 rules.
"""

import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from wily_sluice.outside.files import examine

HEAD = """\
site: Growing
uplinks:
  line: {interface: wan0, down: 200 Mbit/s, up: 100 Mbit/s}
networks:
  house: {interface: lan0, subnets: [10.0.0.0/8, "fd07::/64"]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      rest: {default: true}
"""


def rules(count: int) -> Iterator[str]:
    for n in range(count):
        upper, lower = n >> 8 & 255, n & 255
        yield (
            f"  - {{local: 10.0.{upper}.{lower}, version: 4, queue: calls}}\n",
            f"  - {{local: 10.1.{upper}.0/24, version: 4, remote-port: {1000 + n % 5000}, queue: calls}}\n",
            f"  - {{remote: 203.0.113.{lower}, protocol: udp, port: {1024 + n}-{1030 + n}, queue: calls}}\n",
        )[n % 3]


def queues(count: int) -> Iterator[str]:
    yield from (f"      q{n}: {{weight: 2}}\n" for n in range(count))
    yield "rules:\n"
    yield from (f"  - {{local: 10.0.{n >> 8}.{n & 255}, version: 4, queue: q{n}}}\n" for n in range(count))


def taken(text: str, file: Path) -> float:
    file.write_text(text)
    best = float("inf")
    for _ in range(3):
        begun = time.monotonic()
        plan, _ = examine(file)
        assert plan is not None
        best = min(best, time.monotonic() - begun)
    return best


def main() -> None:
    """Measure, and print a line for each."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "plan.yaml"
        taken(HEAD + "rules:\n" + "".join(rules(10)), file)
        unit = 0.0
        for count in (300, 1000, 3000, 5000, 10_000):
            seconds = taken(HEAD + "rules:\n" + "".join(rules(count)), file)
            unit = unit or seconds
            print(f"{count:6,} rules   {seconds / unit:6.1f}   ({seconds:.2f} s)", flush=True)
        seconds = taken(HEAD + "".join(queues(3000)), file)
        print(f" 3,000 queues  {seconds / unit:6.1f}   ({seconds:.2f} s)")


if __name__ == "__main__":
    main()
