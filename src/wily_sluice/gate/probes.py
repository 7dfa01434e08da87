"""Whether uplinks carry anything: an echo a second over each, to remotes that the plan names.

A probe is lost unless one of its remotes answers in time. An uplink fails when so many in a row were lost, and no
conversation over it was answered meanwhile; it is well again with the first answer, and it is for others to wait until
that has lasted. Where conversations are answered and probes are not, the remotes are unsuitable, and conversations
alone say whether the uplink is up. An answer counts if it repeats our random bytes.
"""

import select
import socket
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import Final

from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.uplinks import UNANSWERED, Echoes
from wily_sluice.gate.kernel.echo import Nonce, echo_socket, family_of, parse_answer, request
from wily_sluice.plan.model import Plan, Probing
from wily_sluice.units import MILLISECOND, SECOND, Direction, Nanoseconds

A_TURN: Final = 64  # answers, and what else comes to such a socket
PACE: Final[Nanoseconds] = 100 * MILLISECOND  # of looking whether one is lost, or the next is due


class Probed:
    """One uplink: the targets of its probes, the number of rounds lost in a row, and the shaper for up."""

    def __init__(
        self,
        interface: str,
        probing: Probing,
        ends: Mapping[socket.AddressFamily, socket.socket],
        nonce: Nonce,
        shaper: Shaper,
    ) -> None:
        self.interface = interface
        self.probing = probing
        self.ends = ends
        self.nonce = nonce
        self.shaper = shaper
        self.echoes = Echoes(probing.within, probing.lost)

    def beat(self, now: Nanoseconds) -> None:
        """See whether a probe is lost, and send the next when it is due."""
        sequence = self.echoes.next(now)
        line = self.shaper
        self.echoes.others(line.answered, line.asked, line.heard, line.spoke)
        if sequence < 0:
            return
        for remote in self.probing.remotes:
            family = family_of(remote)
            with suppress(OSError):  # no way there, which is as good as lost
                # Anew each time, since the interface may have been made anew.
                self.ends[family].setsockopt(socket.SOL_SOCKET, socket.SO_BINDTODEVICE, self.interface.encode())
                self.ends[family].sendto(request(family, self.nonce, sequence), (remote, 0))

    def heard(self, remote: str, sequence: int, now: Nanoseconds) -> None:
        """Take note of an answer."""
        if remote in self.probing.remotes:
            self.echoes.heard(sequence, now)


class Probes:
    """Those of one gate. To be read whenever it is readable, and to be called every PACE or more often."""

    def __init__(self) -> None:
        self._poll = select.epoll()
        self._probed: dict[str, Probed] = {}
        self._by_number: dict[int, tuple[socket.AddressFamily, Probed]] = {}
        self._state: set[tuple[str, bool]] = set()

    def fileno(self) -> int:
        """For select."""
        return self._poll.fileno()

    def __bool__(self) -> bool:
        return bool(self._probed)

    def arrange(self, plan: Plan, numbers: Mapping[str, int], shapers: Mapping[tuple[str, Direction], Shaper]) -> None:
        """Probe the uplinks of this plan, each by its own mark. OSError where this machine does not let us."""
        before, self._probed = self._probed, {}
        for uplink in plan.uplinks:
            old = before.get(uplink.name)
            if uplink.probing is None or not plan.routing:
                continue
            if old is not None and (old.interface, old.probing) == (uplink.interface, uplink.probing):
                self._probed[uplink.name] = before.pop(uplink.name)
                old.shaper = shapers[uplink.name, "up"]
                continue
            number = numbers[uplink.name]
            ends = {}
            nonce = Nonce.drawn()
            for family in {family_of(remote) for remote in uplink.probing.remotes}:
                end = ends[family] = echo_socket(family, nonce)
                end.setsockopt(socket.SOL_SOCKET, socket.SO_MARK, plan.gate.marks.of(number))
            probed = Probed(uplink.interface, uplink.probing, ends, nonce, shapers[uplink.name, "up"])
            self._probed[uplink.name] = probed
            for family, end in ends.items():
                self._poll.register(end, select.EPOLLIN)
                self._by_number[end.fileno()] = family, probed
        for gone in before.values():
            self._close(gone)

    def turn(self) -> None:
        """Read arrived packets."""
        for number, _ in self._poll.poll(0):
            family, probed = self._by_number[number]
            with suppress(OSError):  # no more, or the interface has gone
                for _ in range(A_TURN):
                    data, source = probed.ends[family].recvfrom(128)
                    sequence = parse_answer(family, data, probed.nonce)
                    if sequence is not None:
                        probed.heard(source[0].partition("%")[0], sequence, time.monotonic_ns())

    def beat(self, now: Nanoseconds) -> bool:
        """Send due pings; whether an uplink has failed, recovered, or become `astray` since the last call."""
        for probed in self._probed.values():
            probed.beat(now)
        before = self._state
        self._state = {
            (name, uplink.echoes.astray)
            for name, uplink in self._probed.items()
            if uplink.echoes.failing or uplink.echoes.astray
        }
        return before != self._state

    @property
    def astray(self) -> dict[str, str]:
        """The uplinks whose remotes never answer while others do, and these remotes."""
        return {name: _remotes(uplink) for name, uplink in self._probed.items() if uplink.echoes.astray}

    def why(self, uplink: str) -> str:
        """Why an uplink is unusable; empty if it works or is not probed."""
        probed = self._probed.get(uplink)
        if probed is None or not probed.echoes.failing:
            return ""
        remotes, within = _remotes(probed), probed.probing.within / SECOND
        if probed.echoes.astray:
            return f"{remotes} give no answer, and conversations have had none for {UNANSWERED // SECOND} s"
        never = "" if probed.echoes.answered else "; none ever came, so the addresses may be wrong"
        return f"{remotes} gave no answer within {within:g} s, {probed.echoes.lost} times in a row{never}"

    def _close(self, probed: Probed) -> None:
        for end in probed.ends.values():
            self._by_number.pop(end.fileno(), None)
            self._poll.unregister(end)
            end.close()

    def close(self) -> None:
        """Probe no more."""
        for probed in self._probed.values():
            self._close(probed)
        self._probed = {}
        self._poll.close()


def _remotes(probed: Probed) -> str:
    return " and ".join(probed.probing.remotes)
