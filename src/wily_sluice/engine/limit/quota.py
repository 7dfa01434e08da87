"""Quotas: volume per period, both directions together.

An `Account` belongs to one host, subnet or conversation of a limiter, or to all together, and outlives its bucket. It
counts bytes as an interface does: an IP packet with an Ethernet header of 14 bytes. A new period clears the ledger; the
caller knows the period.

A ledger has at most MOST_ACCOUNTS; later hosts share one account.

Counts are handed over as increments, never as sums. The process that keeps the sums can therefore start without them.
"""

from collections.abc import Mapping
from typing import Final

from wily_sluice.engine.tally import ETHERNET_HEADER
from wily_sluice.units import Size

MOST_ACCOUNTS: Final = 16_384
ALL_OTHERS: Final = b"*"  # the key of the shared account: no address, and no conversation


class Account:
    """The volume of the present period, and the part already handed over."""

    __slots__ = ("told", "used")

    def __init__(self) -> None:
        self.used: Size = 0
        self.told: Size = 0

    def count(self, length: Size) -> None:
        """Count a packet of this length, IP header included."""
        self.used += length + ETHERNET_HEADER


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
            if len(self._accounts) >= MOST_ACCOUNTS and key != ALL_OTHERS:
                return self.account(ALL_OTHERS)
            account = self._accounts[key] = Account()
        return account

    def begin(self, period: str) -> None:
        """Begin a period. Accounts that are in use stay the same objects."""
        self.period = period
        for account in self._accounts.values():
            account.used = account.told = 0

    def add(self, used: Mapping[bytes, Size]) -> None:
        """Add earlier use of this period, as it was stored."""
        for key, size in used.items():
            account = self.account(key)
            account.used += size
            account.told += size

    def news(self) -> dict[bytes, Size]:
        """The use of each account since the last call."""
        news = {}
        for key, account in self._accounts.items():
            if account.used != account.told:
                news[key] = account.used - account.told
                account.told = account.used
        return news

    def take_back(self, news: Mapping[bytes, Size]) -> None:
        """Hand this over again: it could not be delivered."""
        for key, size in news.items():
            self.account(key).told -= size

    def used(self) -> dict[bytes, Size]:
        """All accounts."""
        return {key: account.used for key, account in self._accounts.items()}
