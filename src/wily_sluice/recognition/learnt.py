"""Knowledge about other conversations: names of addresses, from DNS answers, and addresses of media, from SIP.

Both are bounded, and the oldest entries are forgotten first. A name is valid for the answer's time to live.
"""

from wily_sluice.units import SECOND, Nanoseconds

MOST_ADDRESSES = 20_000
MOST_NAMES = 4  # of one address
MOST_MEDIA = 4_000
MEDIA_LIFE: Nanoseconds = 120 * SECOND


class LearntNames:
    """Names that hosts have asked for."""

    def __init__(self) -> None:
        self._found: dict[bytes, dict[str, tuple[Nanoseconds, bytes]]] = {}

    def __len__(self) -> int:
        return len(self._found)

    def learn(self, address: bytes, name: str, until: Nanoseconds, host: bytes) -> None:
        """Remember that a host received this address for a name, and until when it is valid."""
        names = self._found.pop(address, {})
        names.pop(name, None)
        names[name] = (until, host)
        if len(names) > MOST_NAMES:
            del names[next(iter(names))]
        self._found[address] = names
        if len(self._found) > MOST_ADDRESSES:
            del self._found[next(iter(self._found))]

    def names(self, address: bytes, host: bytes, now: Nanoseconds) -> tuple[str, ...]:
        """The names of an address that still hold: those that this host asked for, or where there are none, any."""
        names = self._found.get(address)
        if names is None:
            return ()
        current = [(name, asker) for name, (until, asker) in reversed(names.items()) if until >= now]
        own = tuple(name for name, asker in current if asker == host)
        return own or tuple(name for name, _ in current)


class ExpectedMedia:
    """Addresses and ports of announced media."""

    def __init__(self) -> None:
        self._found: dict[tuple[bytes, int], tuple[Nanoseconds, str]] = {}

    def __len__(self) -> int:
        return len(self._found)

    def expect(self, address: bytes, port: int, kind: str, now: Nanoseconds) -> None:
        """Take note of where media was announced."""
        self._found.pop((address, port), None)
        self._found[address, port] = (now + MEDIA_LIFE, kind)
        if len(self._found) > MOST_MEDIA:
            del self._found[next(iter(self._found))]

    def kind(self, address: bytes, port: int, now: Nanoseconds) -> str:
        """The kind of media announced there; empty for none."""
        until, kind = self._found.get((address, port), (0, ""))
        return kind if until >= now else ""
