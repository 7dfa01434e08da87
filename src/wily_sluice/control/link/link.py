"""The link between the gate and each of its processes: a stream socket.

Each message is its length, 4 bytes in network byte order, then that many bytes of MessagePack. The gate and the desk
never block: data that the socket does not accept is kept. The first message of each side announces its protocol. From a
side with another one, for instance after an upgrade, no further message is accepted.
"""

import asyncio
import select
import socket
import struct
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any, Generic, TypeVar

import msgspec

from wily_sluice import __version__
from wily_sluice.control.link.messages import PROTOCOL, Ask, Done, FromGate, Hello, Message, Order, Seen
from wily_sluice.errors import REFUSED, RpcError, SluiceError
from wily_sluice.gate.look import Look

A_READ = 1 << 18  # bytes taken in at a time
LARGEST = 1 << 28  # bytes
_LENGTH = struct.Struct("!I")
M = TypeVar("M")


class OtherVersion(SluiceError):
    """The other side is of another version of the program, which this is."""


class Link(Generic[M]):
    """One end; `kinds` is the type of incoming messages. `EOFError` if the other end has gone, or sent an invalid
    message.
    """

    def __init__(self, end: socket.socket, kinds: Any) -> None:
        end.setblocking(False)
        self._end = end
        self._in = bytearray()
        self._out = bytearray()
        self._hello = msgspec.msgpack.Decoder(Hello)
        self._decoder: msgspec.msgpack.Decoder[M] = msgspec.msgpack.Decoder(kinds)
        self._encode = msgspec.msgpack.Encoder().encode
        self._greeted = False
        self._deaf = False
        self.send(Hello(PROTOCOL, __version__))

    def fileno(self) -> int:
        """For select."""
        return self._end.fileno()

    @property
    def behind(self) -> bool:
        """Whether the other side has not yet taken all that was sent."""
        return bool(self._out)

    def send(self, message: Message) -> None:
        """Send a message: now, or as soon as the other side takes it."""
        body = self._encode(message)
        self._out += _LENGTH.pack(len(body)) + body
        self.flush()

    def flush(self) -> None:
        """Send pending data."""
        try:
            while self._out:
                del self._out[: self._end.send(self._out)]
        except BlockingIOError:
            return
        except OSError as error:
            raise EOFError from error

    def receive(self) -> list[M]:
        """The messages that have come whole. OtherVersion when the other side speaks otherwise."""
        try:
            data = self._end.recv(A_READ)
        except BlockingIOError:
            return []
        except OSError as error:
            raise EOFError from error
        if not data:
            raise EOFError
        if self._deaf:
            return []
        self._in += data
        messages: list[M] = []
        offset = 0
        while len(self._in) - offset >= _LENGTH.size:
            length = _LENGTH.unpack_from(self._in, offset)[0]
            if length > LARGEST:
                raise EOFError
            end = offset + _LENGTH.size + length
            if len(self._in) < end:
                break
            body = bytes(self._in[offset + _LENGTH.size : end])
            offset = end
            try:
                if self._greeted:
                    messages.append(self._decoder.decode(body))
                else:
                    self._greet(self._hello.decode(body))
            except (msgspec.MsgspecError, ValueError) as error:  # the latter for text that is not UTF-8
                raise EOFError from error
        del self._in[:offset]
        return messages

    def exchange(self, patience: float | None = None) -> list[M]:
        """For a side that may block: the first complete message within a time, or None. Pending data is sent in the
        process.
        """
        deadline = time.monotonic() + patience if patience is not None else None
        while True:
            left = max(0.0, deadline - time.monotonic()) if deadline is not None else None
            readable, writable, _ = select.select([self], [self] if self._out else [], [], left)
            if writable:
                self.flush()
            if readable and (messages := self.receive()):
                return messages
            if not readable and not writable:
                return []

    def deafen(self) -> None:
        """Take nothing more from the other side, but its end."""
        self._deaf = True
        self._in.clear()

    def _greet(self, hello: Hello) -> None:
        if hello.protocol != PROTOCOL:
            raise OtherVersion(hello.version)
        self._greeted = True

    def close(self) -> None:
        """Close this end."""
        self._end.close()


PATIENCE = 45.0  # seconds for the gate to carry out an order


class Orders:
    """`told` receives the gate's reports; `ended` is called when it has gone, `other` with its version if that differs
    from this process's protocol.
    """

    def __init__(
        self,
        link: Link[FromGate],
        hear: Callable[[FromGate], None],
        ended: Callable[[], None],
        other: Callable[[str], None],
    ) -> None:
        self._link = link
        self._told = hear
        self._ended = ended
        self._other = other
        self._number = 0
        self._awaited: dict[int, asyncio.Future[Done | Seen]] = {}

    def listen(self) -> None:
        """Begin; within a running event loop."""
        asyncio.get_running_loop().add_reader(self._link.fileno(), self._read)

    def _read(self) -> None:
        try:
            messages = self._link.receive()
        except EOFError:
            asyncio.get_running_loop().remove_reader(self._link.fileno())
            self._ended()
            return
        except OtherVersion as error:
            # The gate may go on for long: only its end is of interest from now on.
            self._link.deafen()
            self._other(str(error))
            return
        for message in messages:
            if not isinstance(message, Done | Seen):
                self._told(message)
                continue
            awaited = self._awaited.pop(message.number, None)
            if awaited is not None and not awaited.done():
                awaited.set_result(message)

    def next_number(self) -> int:
        """For an order."""
        self._number += 1
        return self._number

    async def give(self, order: Order) -> str:
        """An order; empty when it was carried out, else why it was not."""
        answer = await self._ask(order)
        return answer.trouble if isinstance(answer, Done) else ""

    async def ask(self, key: bytes) -> Look | None:
        """The gate's state of a conversation."""
        answer = await self._ask(Ask(self.next_number(), key))
        return answer.look if isinstance(answer, Seen) else None

    async def _ask(self, order: Order) -> Done | Seen:
        awaited = self._awaited[order.number] = asyncio.get_running_loop().create_future()
        self.tell(order)
        try:
            return await asyncio.wait_for(awaited, PATIENCE)
        except TimeoutError:
            raise RpcError(REFUSED, f"the gate has not answered within {PATIENCE:g} s") from None

    def announce(self, message: Message) -> None:
        """Send what nobody waits for. That the gate has ended is noticed when its next message is read."""
        with suppress(RpcError):
            self.tell(message)

    def tell(self, message: Message) -> None:
        """Send an order without waiting for a result."""
        try:
            self._link.send(message)
        except EOFError:
            raise RpcError(REFUSED, "the gate has ended") from None
        if self._link.behind:
            asyncio.get_running_loop().add_writer(self._link.fileno(), self._flush)

    def _flush(self) -> None:
        try:
            self._link.flush()
        except EOFError:
            return
        if not self._link.behind:
            asyncio.get_running_loop().remove_writer(self._link.fileno())
