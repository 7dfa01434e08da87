"""Feeds mutated files to whatever reads files: `python -m tools.mutate_files [COUNT] [SEED]`.

Good plans, traffic files, schedules, calendars, databases of places and captures, some bytes of them changed, doubled,
cut or put elsewhere; lines are moved about as well. Stops at what raises anything but what its reader promises, and
tells how long the slowest took of the processor, and how much memory was had at most.
"""

import resource
import sys
import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from random import Random
from zoneinfo import ZoneInfo

from tests.conftest import SMALL_PLAN
from tools.mutate import mutated
from wily_sluice import examples
from wily_sluice.outside.files import DiskFile, examine, load, load_traffic
from wily_sluice.plan.findings.finding import FileError
from wily_sluice.plan.groups.place_file import members_where
from wily_sluice.plan.schedules.schedule import CalendarFile, Entries
from wily_sluice.sorting.capture import CaptureError, read
from wily_sluice.sorting.follow import Follower

ROUNDS_A_TELL = 20_000
SLOWEST = 2.0  # seconds of the processor
FOLDER = examples.folder()
TRAFFIC = """\
duration: 12 s
warmup: 3 s
lines: {line: {down: 20 Mbit/s, up: 10 Mbit/s, delay: 10 ms, buffer: 400 ms}}
applications:
  - {name: Call, kind: call, local: 10.7.0.4, remote: 203.0.113.5, port: 5004}
  - {name: Up, kind: upload, flows: 4, at: 2 s, for: 5 s, local: 10.7.0.9, remote: 203.0.113.6, host: a.example}
"""
CALENDAR = """\
BEGIN:VCALENDAR\r
VERSION:2.0\r
PRODID:-//Saltmarsh//EN\r
BEGIN:VEVENT\r
UID:1@saltmarsh.example\r
DTSTART;VALUE=DATE:20270101\r
RRULE:FREQ=WEEKLY;COUNT=20\r
SUMMARY:Closed\r
END:VEVENT\r
BEGIN:VEVENT\r
UID:2@saltmarsh.example\r
DTSTART:20270301T080000Z\r
DTEND:20270301T100000Z\r
EXDATE:20270302T080000Z\r
END:VEVENT\r
END:VCALENDAR\r
"""
WINDOWS = b"mon-fri 08:00-18:30\n2027-12-24 to 2028-01-02 18:00-20:00\nnot 2027-12-25\nfrom 2027-01-01\n22:00-06:00\n"


def readers(folder: Path) -> list[tuple[str, bytes, Callable[[Path], object], int]]:
    """What there is to feed: its name, a good one, who reads it, and how many of each hundred."""
    small = folder / "small.yaml"
    small.write_text(SMALL_PLAN)
    plan, demo = load(small), load(FOLDER / examples.PLAN)
    where = {("country",): ("XA",)}

    def schedule(file: Path) -> None:
        entries = Entries()
        for line in file.read_bytes().decode(errors="replace").splitlines():
            with suppress(ValueError):
                entries.add(line)

    def capture(file: Path) -> None:
        follower = Follower(demo, demo.uplinks[0])
        for number, captured in enumerate(read(file), 1):
            follower.packet(number, captured)
        follower.finish()

    whole = (FOLDER / examples.PLAN).read_bytes()
    return [
        ("plan", SMALL_PLAN.encode(), examine, 20),
        ("the demo's plan", whole, examine, 5),
        ("traffic", TRAFFIC.encode(), lambda file: load_traffic(file, plan), 15),
        ("schedule", WINDOWS, schedule, 30),
        ("calendar", CALENDAR.encode(), lambda file: CalendarFile(DiskFile(file), ZoneInfo("Europe/Dublin")), 5),
        ("places", (FOLDER / "places.mmdb").read_bytes(), lambda file: members_where(DiskFile(file), where), 15),
        ("capture", (FOLDER / examples.CAPTURE).read_bytes()[:3000], capture, 10),
    ]


def main(count: str = "100000", seed: str = "") -> None:
    """Feed so many."""
    number = int(seed) if seed else time.time_ns() & 0xFFFFFFFF
    print(f"drawn by {number}", flush=True)
    drawn = Random(number)
    with tempfile.TemporaryDirectory(dir="/dev/shm" if Path("/dev/shm").is_dir() else None) as name:
        kinds = readers(Path(name))
        weights = [weight for *_, weight in kinds]
        fed, slowest = (dict.fromkeys((kind[0] for kind in kinds), 0.0) for _ in range(2))
        file = Path(name) / "sluice.yaml"
        for done in range(1, int(count) + 1):
            kind, good, reader, _ = drawn.choices(kinds, weights)[0]
            data = mutated(good, drawn)
            file.write_bytes(data)
            begun = time.thread_time()
            try:
                with suppress(FileError, CaptureError, ValueError if kind in ("calendar", "places") else FileError):
                    reader(file)
            except Exception:
                print(f"{kind}: {data!r}", flush=True)
                raise
            took = time.thread_time() - begun
            if took > SLOWEST:
                print(f"{kind} took {took:.1f} s: {data!r}", flush=True)
            slowest[kind] = max(slowest[kind], took)
            fed[kind] += 1
            if done % ROUNDS_A_TELL == 0 or done == int(count):
                memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
                told = ", ".join(f"{one} {fed[one]:,.0f} (slowest {slowest[one] * 1000:.0f} ms)" for one in fed)
                print(f"{done:,}: {told}; memory at most {memory} MiB", flush=True)


if __name__ == "__main__":
    main(*sys.argv[1:])
