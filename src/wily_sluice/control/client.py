"""Speaks with the gate of this network namespace, over its sockets."""

import json
import os
import socket
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from wily_sluice.errors import LiveError, RpcError
from wily_sluice.gate.kernel.process import CONTROL, WATCH, runtime_folder

SILENCE = 20.0  # seconds within which a subscriber hears something from a healthy gate
PATIENCE = 60.0  # seconds for an answer: what a large plan takes on a slow machine


class Client:
    """A connection. LiveError if there is no gate, or the user may not connect; RpcError if a call fails.

    With `watching`, calls that change nothing may use the socket for watchers if the other is closed to this user.
    `folder` is the sockets' folder, if not that of this network namespace.
    """

    def __init__(self, watching: bool = False, folder: Path | None = None) -> None:
        folder = folder or runtime_folder()
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        self._socket.settimeout(PATIENCE)
        trouble: OSError | None = None
        for name in (CONTROL, WATCH) if watching else (CONTROL,):
            try:
                self._socket.connect(os.fspath(folder / name))
                break
            except OSError as error:
                trouble = error
        else:
            self._socket.close()
            if isinstance(trouble, PermissionError):
                raise LiveError(
                    "the plan does not let you watch its gate: see `gate: {watchers: …}`, or use sudo"
                    if watching
                    else "changing the gate needs root: use sudo"
                )
            raise LiveError(
                "no gate runs here: start one with `sudo sluice gate run --plan FILE`, or `sudo sluice gate install`"
            )
        self._file = self._socket.makefile("rb")
        self._number = 0
        self._rest = b""

    def call(self, method: str, **params: Any) -> Any:
        """Call a method; its result."""
        self.ask(method, **params)
        while True:
            answer = self._receive()
            if answer.get("id") == self._number or ("error" in answer and answer.get("id") is None):
                break
        if "error" in answer:
            error = answer["error"]
            raise RpcError(error["code"], error["message"], error.get("data"))
        return answer["result"]

    def ask(self, method: str, **params: Any) -> None:
        """Call a method, and do not wait for its result."""
        self._number += 1
        call = {"jsonrpc": "2.0", "id": self._number, "method": method, "params": params}
        self._socket.sendall(json.dumps(call).encode() + b"\n")

    def waiting(self) -> list[dict[str, Any]] | None:
        """Notifications that have come; None when the gate has ended. Call it when there is something to read."""
        data = self._socket.recv(1 << 20)
        if not data:
            return None
        *lines, self._rest = (self._rest + data).split(b"\n")
        loads = [json.loads(line) for line in lines]
        return [message["params"] for message in loads if "method" in message]

    def notifications(self) -> Iterator[dict[str, Any]]:
        """The gate's notifications, until it ends. LiveError if it falls silent."""
        self._socket.settimeout(SILENCE)
        while message := self._next():
            if "method" in message:
                yield message["params"]

    def _receive(self) -> dict[str, Any]:
        answer = self._next()
        if answer is None:
            raise LiveError("the gate has ended, or closed the connection")
        return answer

    def _next(self) -> dict[str, Any] | None:
        """The next message; None when the connection is at its end."""
        try:
            line = self._file.readline()
        except TimeoutError:
            seconds = self._socket.gettimeout()
            raise LiveError(f"the process that answers for the gate has said nothing for {seconds:g} s") from None
        except OSError:
            line = b""
        if not line:
            return None
        message: dict[str, Any] = json.loads(line)
        return message

    def fileno(self) -> int:
        """For select."""
        return self._socket.fileno()

    def close(self) -> None:
        """End the connection."""
        self._file.close()
        self._socket.close()

    def __enter__(self) -> "Client":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
