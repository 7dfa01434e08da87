"""Finds the usable rates of lines that vary, while the gate runs.

Echoes go over each such uplink at every beat, past the gate's own queues, so that their round trip is the line's.
From these, and the bytes moved since the last beat, the engine's `RateFinder` works out the rate, and the shaper is
retuned.
"""

import select
import socket
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from typing import Final

from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.uplinks import RateFinder
from wily_sluice.gate.bypass_audit import Line, Moved
from wily_sluice.gate.kernel.echo import Nonce, echo_socket, family_of, parse_answer, request
from wily_sluice.plan.model import Plan, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, SECOND, Direction, Nanoseconds, Rate

A_TURN: Final = 64  # answers, and what else comes to such a socket
LATEST: Final = 64  # echoes after which one that is not answered is given up
NOTICEABLE: Final = 0.003  # of a rate: less is no reason to retune the tree
RISEN: Final = 1.1  # times the rate last reported: then it is reported again
USUAL_LENGTH: Final = 1000  # bytes, from which the cost of a packet beyond its own length is worked out


class Telling:
    """The last report of a direction: its rate, its steps downward, and when; and the highest rate since."""

    def __init__(self, rate: Rate, steps: int, at: Nanoseconds) -> None:
        self.rate = rate
        self.steps = steps
        self.at = at
        self.most = rate


class FoundLine:
    """One uplink: its echoes, and the finders of its directions. `mark` leads packets to it, where routes do."""

    def __init__(self, uplink: Uplink, mark: int | None) -> None:
        assert uplink.probing is not None
        self.uplink = uplink
        self.mark = mark
        self.remote = uplink.probing.remotes[0]
        self.family = family_of(self.remote)
        self.remotes = [remote for remote in uplink.probing.remotes if family_of(remote) == self.family]
        self.told = False  # that nobody answers
        self.nonce = Nonce.drawn()
        self.end = echo_socket(self.family, self.nonce)
        if mark is not None:
            self.end.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, mark)
        self.finders: dict[Direction, RateFinder] = {}
        self.before: dict[Direction, Moved] = {}
        for way in DIRECTIONS:
            lowest = uplink.lowest.of(way)
            if lowest is not None:
                self.finders[way] = RateFinder(lowest, uplink.measured(way), toward=way == "up")
        self.telling = {way: Telling(finder.rate, finder.steps, 0) for way, finder in self.finders.items()}
        self._sent: dict[int, Nanoseconds] = {}
        self._sequence = 0

    def look(self) -> bool:
        """Ping another remote if this one does not answer and there is one; whether no remote answers now."""
        unheard = any(finder.unheard for finder in self.finders.values())
        if unheard and len(self.remotes) > 1:
            self.remotes = [*self.remotes[1:], self.remotes[0]]
            self.remote = self.remotes[0]
            self._sent.clear()
            for finder in self.finders.values():
                finder.begin_anew()
        return unheard

    def ask(self, now: Nanoseconds) -> None:
        """Send an echo."""
        self._sequence = (self._sequence + 1) & 0xFFFF
        self._sent[self._sequence] = now
        self._sent.pop((self._sequence - LATEST) & 0xFFFF, None)
        with suppress(OSError):  # no way there now
            # Anew each time, since the interface may have been made anew.
            self.end.setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, self.uplink.interface.encode())
            self.end.sendto(request(self.family, self.nonce, self._sequence), (self.remote, 0))

    def read(self) -> None:
        """Read arrived packets."""
        with suppress(OSError):  # no more, or the interface has gone
            for _ in range(A_TURN):
                data, source = self.end.recvfrom(128)
                sequence = parse_answer(self.family, data, self.nonce)
                if sequence is None or source[0].partition("%")[0] != self.remote:
                    continue
                sent = self._sent.pop(sequence, None)
                if sent is not None:
                    now = time.monotonic_ns()
                    for finder in self.finders.values():
                        finder.saw(now - sent, now)


class Finding:
    """All uplinks of a gate that vary. `tell` is called with each event, its level and details."""

    def __init__(self, tell: Callable[..., None]) -> None:
        self._tell = tell
        self._poll = select.epoll()
        self._lines: dict[str, FoundLine] = {}
        self._shapers: Mapping[Line, Shaper] = {}
        self._plan: Plan | None = None
        self._tuned: dict[Line, Rate] = {}

    def fileno(self) -> int:
        """For select."""
        return self._poll.fileno()

    def __bool__(self) -> bool:
        return bool(self._lines)

    @property
    def rates(self) -> dict[str, dict[str, Rate]]:
        """The present rate of each line that varies, by uplink and direction."""
        return {name: {way: finder.rate for way, finder in line.finders.items()} for name, line in self._lines.items()}

    def arrange(self, plan: Plan, shapers: Mapping[Line, Shaper], numbers: Mapping[str, int]) -> None:
        """Switch to this plan. An unchanged uplink keeps its rate. OSError if the machine does not permit pings."""
        before, self._lines = self._lines, {}
        self._plan, self._shapers, self._tuned = plan, shapers, {}
        for uplink in plan.uplinks:
            if uplink.probing is None or not any(uplink.lowest.of(way) for way in DIRECTIONS):
                continue
            old, number = before.get(uplink.name), numbers[uplink.name]
            mark = plan.gate.marks.of(number) if plan.routing else None
            if old is not None and (old.uplink, old.mark) == (uplink, mark):
                self._lines[uplink.name] = before.pop(uplink.name)
            else:
                line = self._lines[uplink.name] = FoundLine(uplink, mark)
                self._poll.register(line.end, select.EPOLLIN)
        for gone in before.values():
            self._poll.unregister(gone.end)
            gone.end.close()
        for line in self._lines.values():
            for way in line.finders:
                self._retune(line, way, time.monotonic_ns())

    def turn(self) -> None:
        """Read arrived packets."""
        for line in self._lines.values():
            line.read()

    def beat(self, moved: Mapping[Line, Moved], now: Nanoseconds) -> None:
        """Take a step, and send the next echo; to be called every TICK, with the total moved."""
        for name, line in self._lines.items():
            around = line.uplink.framing.cost(USUAL_LENGTH) - USUAL_LENGTH
            passing, self._shapers[name, "up"].excesses = self._shapers[name, "up"].excesses, []
            asked, unheard = line.remote, line.look()
            if unheard and not line.told:
                self._tell("probe.unheard", "warning", uplink=name, remote=asked)
                line.told = True
            elif not unheard and any(finder.heard for finder in line.finders.values()):
                line.told = False
            for way, finder in line.finders.items():
                if passing:
                    finder.passed(min(passing))
                ours = moved.get((name, way), Moved())
                last = line.before.get(way, ours)
                line.before[way] = ours
                framed = ours.bytes - last.bytes + (ours.packets - last.packets) * around
                shaper = self._shapers[name, way]
                line.telling[way].most = max(line.telling[way].most, finder.rate)
                finder.step(max(0, framed), shaper.tree.active or shaper.free_at > now, now)
                self._tell_of(line, way, now)
                self._retune(line, way, now)
            line.ask(now)

    def _tell_of(self, line: FoundLine, way: Direction, now: Nanoseconds) -> None:
        """Report the steps since the last report, at most once a second: each step down, and the sum of steps up."""
        watching, finder = line.telling[way], line.finders[way]
        steps = finder.steps - watching.steps
        slower = steps > 0 and finder.rate < watching.most  # at the lower bound, a step changes nothing
        if now - watching.at < SECOND or not (slower or finder.rate >= RISEN * watching.rate):
            return
        about: dict[str, str | int] = {"uplink": line.uplink.name, "direction": way, "after": finder.rate}
        if slower:
            self._tell("uplink.slower", "info", **about, before=watching.most, steps=steps)
        else:
            self._tell("uplink.faster", "info", **about, before=watching.rate)
        line.telling[way] = Telling(finder.rate, finder.steps, now)

    def _retune(self, line: FoundLine, way: Direction, now: Nanoseconds) -> None:
        """Shape by the rate found, as if the line had measured it."""
        assert self._plan is not None
        key, rate = (line.uplink.name, way), line.finders[way].rate
        tuned = self._tuned.get(key)
        if tuned is not None and abs(rate - tuned) <= NOTICEABLE * tuned:
            return
        self._tuned[key] = rate
        self._shapers[key].retune(resolve(self._plan, line.uplink.at(way, rate), way), now)

    def close(self) -> None:
        """Stop the pings."""
        for line in self._lines.values():
            line.end.close()
        self._lines = {}
        self._poll.close()
