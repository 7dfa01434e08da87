"""Quotas: what somebody has moved in a period, both ways together.

An `Account` belongs to one host, subnet or conversation of a limiter, or to all together, and outlives its bucket.
Bytes are counted as the interface counts them: an IP packet and its Ethernet header of 14 bytes. When a new period
begins, the ledger is cleared; which period it is, the caller knows.
"""

from collections.abc import Iterable

from wily_sluice.engine.tally import ETHERNET_HEADER
from wily_sluice.units import Size


class Account:
    """What was moved in the present period. `changed` says that it was since the ledger was last read."""

    __slots__ = ("changed", "used")

    def __init__(self, used: Size = 0) -> None:
        self.used = used
        self.changed = False

    def count(self, length: Size) -> None:
        """Count a packet of this length, IP header included."""
        self.used += length + ETHERNET_HEADER
        self.changed = True


class Ledger:
    """The accounts of one limiter, by key."""

    __slots__ = ("_accounts", "period")

    def __init__(self) -> None:
        self.period = ""
        self._accounts: dict[bytes, Account] = {}

    def account(self, key: bytes) -> Account:
        """An account, opened if need be."""
        account = self._accounts.get(key)
        if account is None:
            account = self._accounts[key] = Account()
        return account

    def begin(self, period: str, used: dict[bytes, Size]) -> None:
        """Begin a period, or take one up again with what was used in it; accounts that are in use stay the same."""
        self.period = period
        for account in self._accounts.values():
            account.used = 0
            account.changed = False
        for key, size in used.items():
            self.account(key).used = size

    def changes(self) -> dict[bytes, Size]:
        """The accounts that changed since the last call."""
        changed = {key: account.used for key, account in self._accounts.items() if account.changed}
        for key in changed:
            self._accounts[key].changed = False
        return changed

    def changed(self, keys: Iterable[bytes]) -> None:
        """Have these told again."""
        for key in keys:
            self._accounts[key].changed = True

    def used(self) -> dict[bytes, Size]:
        """All accounts."""
        return {key: account.used for key, account in self._accounts.items()}
