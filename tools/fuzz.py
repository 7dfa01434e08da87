"""Feeds the recognisers and the header's reader anything at all, guided by what of them it reaches.

    python -m tools.fuzz -runs=10000000 -max_len=1500

Needs the package `atheris`, which the tests themselves do not. It stops at an exception, or at a call that takes so
long five times in a row that it would take about a millisecond by itself, and prints the slowest call now and then.
"""

import resource
import sys
import time
from collections.abc import Callable

import atheris

with atheris.instrument_imports(include=["wily_sluice.recognition", "wily_sluice.engine.classify.header"]):
    from wily_sluice.engine.classify.header import TCP, UDP, Parties, key_of, parse
    from wily_sluice.engine.conversations.conversation import ConversationTable
    from wily_sluice.recognition.opening import Datagram, Opening
    from wily_sluice.recognition.recognition import RECOGNISERS, Recognition

LONGEST = 4_000_000  # nanoseconds of a call; what it is guided by makes it take four to five times as long
ATTEMPTS = 5  # a virtual machine's processor time has others' in it
ALL = [(protocol, recogniser) for protocol in (TCP, UDP) for recogniser in RECOGNISERS[protocol]]
PORTS = (443, 53, 123, 5060, 500, 40_000)
TELL_EVERY = 500_000
slowest = {"time": 0, "who": "", "runs": 0}


def payloads(data: bytes) -> list[bytes]:
    """Up to eight pieces: the first bytes say how long each is."""
    sizes, rest = data[:4], data[4:]
    pieces = []
    for size in sizes:
        pieces.append(rest[: size * 6])
        rest = rest[size * 6 :]
    return [*pieces, rest]


def timed(who: str, call: Callable[[], object]) -> None:
    took = LONGEST + 1
    for _ in range(ATTEMPTS):
        begun = time.thread_time_ns()
        call()
        took = min(took, time.thread_time_ns() - begun)
        if took <= LONGEST:
            break
    else:
        raise RuntimeError(f"{who} took {took / 1e6:.2f} ms")
    if took > slowest["time"]:
        slowest.update(time=took, who=who)


def one(data: bytes) -> None:
    slowest["runs"] += 1
    if slowest["runs"] % TELL_EVERY == 0:
        told()
    if len(data) < 3:
        return
    choice, port = data[0] % (len(ALL) + 2), PORTS[data[1] % len(PORTS)]
    if choice >= len(ALL):
        recognition, table = Recognition(), ConversationTable()
        for now, piece in enumerate(payloads(data[2:])):
            parsed = parse(piece, bool(now & 1))
            if parsed is not None:
                conversation = table.find(parsed.key, parsed.dscp, now)
                timed("all", lambda p=parsed, c=conversation, b=piece, n=now: recognition.look(c, p, b, bool(n & 1), n))
        return
    protocol, recogniser = ALL[choice]

    def asked() -> None:
        made = Opening(key_of(Parties(protocol, b"host", b"away", 5004, port)), 0)
        for now, piece in enumerate(payloads(data[2:])):
            up = not now & 1
            if protocol == TCP:
                (made.up if up else made.down).add(0, piece, False)
            else:
                made.datagrams.append(Datagram(up, piece, len(piece), now))
        recogniser(made)

    timed(recogniser.__module__, asked)


def told() -> None:
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    took = f"{slowest['who']}, {slowest['time'] / 1e6:.3f} ms of processor time"
    print(f"{slowest['runs']} runs; slowest: {took}; memory at most {memory} KiB", flush=True)


if __name__ == "__main__":
    atheris.Setup(sys.argv, one)
    atheris.Fuzz()
