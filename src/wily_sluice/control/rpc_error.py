"""A failed JSON-RPC call: its code and message."""

from typing import Any

from wily_sluice.errors import SluiceError

PARSE_ERROR, INVALID_REQUEST, METHOD_NOT_FOUND, INVALID_PARAMS, INTERNAL_ERROR = -32700, -32600, -32601, -32602, -32603
REFUSED, BUSY, NOT_PERMITTED = 1, 2, 3  # our own codes


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
