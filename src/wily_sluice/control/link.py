"""What the gate and the process beside it say to each other: pickled messages over a stream socket between the two.

Each message is its length, 4 bytes in network byte order, then that many bytes. Neither side ever waits: what the
socket does not take is kept until it does. Only these two processes hold the ends, so what comes is to be trusted.
"""

import pickle
import socket
import struct
from typing import Any, TypeAlias

Message: TypeAlias = tuple[Any, ...]  # a word, and what belongs to it

A_READ = 1 << 18  # bytes taken in at a time
LARGEST = 1 << 28  # bytes
_LENGTH = struct.Struct("!I")


class Link:
    """One end. `EOFError` when the other has gone."""

    def __init__(self, end: socket.socket) -> None:
        end.setblocking(False)
        self._end = end
        self._in = bytearray()
        self._out = bytearray()

    def fileno(self) -> int:
        """For select."""
        return self._end.fileno()

    @property
    def behind(self) -> bool:
        """Whether the other side has not yet taken all that was sent."""
        return bool(self._out)

    def send(self, *message: Any) -> None:
        """Send a message: now, or as soon as the other side takes it."""
        body = pickle.dumps(message, protocol=pickle.HIGHEST_PROTOCOL)
        self._out += _LENGTH.pack(len(body)) + body
        self.flush()

    def flush(self) -> None:
        """Send what is left."""
        try:
            while self._out:
                del self._out[: self._end.send(self._out)]
        except BlockingIOError:
            return
        except OSError as error:
            raise EOFError from error

    def receive(self) -> list[Message]:
        """The messages that have come whole."""
        try:
            data = self._end.recv(A_READ)
        except BlockingIOError:
            return []
        except OSError as error:
            raise EOFError from error
        if not data:
            raise EOFError
        self._in += data
        messages = []
        place = 0
        while len(self._in) - place >= _LENGTH.size:
            length = _LENGTH.unpack_from(self._in, place)[0]
            if length > LARGEST:
                raise EOFError
            end = place + _LENGTH.size + length
            if len(self._in) < end:
                break
            messages.append(pickle.loads(memoryview(self._in)[place + _LENGTH.size : end]))
            place = end
        del self._in[:place]
        return messages

    def close(self) -> None:
        """Let the other side know that this is the end."""
        self._end.close()
