"""The other end of the link to the gate: gives orders and awaits what becomes of them."""

import asyncio
from collections.abc import Callable
from typing import Any

from wily_sluice.control.json_rpc import REFUSED, RpcError
from wily_sluice.control.link import Link, Message

PATIENCE = 45.0  # seconds for the gate to carry out an order


class Orders:
    """`told` is handed what the gate tells by itself; `ended` is called when it has gone."""

    def __init__(self, link: Link, told: Callable[[Message], None], ended: Callable[[], None]) -> None:
        self._link = link
        self._told = told
        self._ended = ended
        self._number = 0
        self._awaited: dict[int, asyncio.Future[Any]] = {}

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
        for message in messages:
            if message[0] != "done":
                self._told(message)
                continue
            awaited = self._awaited.pop(message[1], None)
            if awaited is not None and not awaited.done():
                awaited.set_result(message[2])

    def tell(self, word: str, *what: Any) -> None:
        """An order that is not answered."""
        self._send(word, 0, *what)

    async def give(self, word: str, *what: Any) -> str:
        """An order; empty when it was carried out, else why it was not."""
        return str(await self.ask(word, *what))

    async def ask(self, word: str, *what: Any) -> Any:
        """A question; what the gate answers."""
        self._number += 1
        awaited = self._awaited[self._number] = asyncio.get_running_loop().create_future()
        self._send(word, self._number, *what)
        try:
            return await asyncio.wait_for(awaited, PATIENCE)
        except TimeoutError:
            raise RpcError(REFUSED, f"the gate has not carried it out within {PATIENCE:g} s") from None

    def _send(self, *message: Any) -> None:
        try:
            self._link.send(*message)
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
