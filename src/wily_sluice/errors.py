"""Errors that the program reports to the user. The message says what was wrong, and what would be right."""

from typing import Any


class SluiceError(Exception):
    """Whatever ends a command with a message in place of a traceback."""


class LiveError(SluiceError):
    """The gate or the rig cannot do this here and now. Nothing was changed, or it was undone."""


# Codes of failed JSON-RPC calls: those of the specification, then ours.
PARSE_ERROR, INVALID_REQUEST, METHOD_NOT_FOUND, INVALID_PARAMS, INTERNAL_ERROR = -32700, -32600, -32601, -32602, -32603
REFUSED, BUSY, NOT_PERMITTED = 1, 2, 3


class RpcError(SluiceError):
    """A failed call, with its message for the caller."""

    def __init__(self, code: int, message: str, data: Any = None) -> None:
        super().__init__(message)
        self.code = code
        self.message = message
        self.data = data

    def as_json(self) -> dict[str, Any]:
        """The error object."""
        return {"code": self.code, "message": self.message} | ({"data": self.data} if self.data is not None else {})
