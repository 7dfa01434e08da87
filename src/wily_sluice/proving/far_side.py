"""Gives orders to the far side of a proof, over HTTP."""

import asyncio
import json
from contextlib import suppress
from typing import Any

import aiohttp

from wily_sluice.errors import LiveError
from wily_sluice.gauge.far import ORDER, authorization, secret_of
from wily_sluice.gauge.loads import Far

PATIENCE = 60.0  # seconds


class FarSide:
    """A session with the far end that has this key. LiveError when there is none, or it serves no proofs."""

    def __init__(self, host: str, port: int, key: bytes) -> None:
        self._key = key
        self._far = Far(host, port, key)
        asyncio.run(self._far.meet())

    @property
    def port(self) -> int:
        """Of HTTP, and of the entrance."""
        return self._far.port

    @property
    def secret(self) -> bytes:
        """What callers show a token of."""
        return secret_of(self._key, self._far.challenge)

    def ask(self, order: dict[str, Any]) -> Any:
        """Give an order, and wait for its answer."""
        return asyncio.run(self._ask(order))

    def close(self) -> None:
        """End the session, so that another proof need not wait for it to fall silent."""
        with suppress(LiveError):
            self.ask({"end": True})

    async def _ask(self, order: dict[str, Any]) -> Any:
        body = json.dumps(order).encode()
        headers = authorization(self._key, self._far.challenge, "POST", ORDER, body)
        timeout = aiohttp.ClientTimeout(total=PATIENCE)
        try:
            async with (
                aiohttp.ClientSession(timeout=timeout) as http,
                http.post(f"{self._far.base}{ORDER}", data=body, headers=headers) as answer,
            ):
                text = await answer.text()
                if answer.status != 200:
                    raise LiveError(f"{self._far.host} does not follow: {text.strip() or answer.status}")
                return json.loads(text)["answer"]
        except (aiohttp.ClientError, TimeoutError, OSError, ValueError) as error:
            raise LiveError(f"{self._far.host} does not answer: {str(error) or type(error).__name__}") from None
