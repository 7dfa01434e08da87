"""The other end of the link to the gate: sends orders and waits for their results."""

import asyncio
from collections.abc import Callable

from wily_sluice.control.link.link import Link, OtherVersion
from wily_sluice.control.link.messages import Ask, Done, FromGate, Message, Order, Seen
from wily_sluice.control.rpc_error import REFUSED, RpcError
from wily_sluice.gate.look import Look

PATIENCE = 45.0  # seconds for the gate to carry out an order


class Orders:
    """`told` receives the gate's reports; `ended` is called when it has gone, `other` with its version if that differs
    from this process's protocol.
    """

    def __init__(
        self,
        link: Link[FromGate],
        told: Callable[[FromGate], None],
        ended: Callable[[], None],
        other: Callable[[str], None],
    ) -> None:
        self._link = link
        self._told = told
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
