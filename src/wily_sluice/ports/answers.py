"""Answers requests in PCP and NAT-PMP from the table of mappings.

An answer that a port is open, or closed, is sent only after the kernel has done so. Until then it is an `Answer` with
`changed`, and an alternative in case the kernel refuses.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

from wily_sluice.plan.terms import TRANSPORTS
from wily_sluice.ports import nat_pmp, pcp
from wily_sluice.ports.mapping_table import Book, PortMapping, Refused, Sender, Wish
from wily_sluice.units import SECOND, Nanoseconds

PCP_RESULTS: Final = {
    Refused.NOT_GRANTED: pcp.Result.NOT_AUTHORIZED,
    Refused.ELSEWHERE: pcp.Result.NOT_AUTHORIZED,
    Refused.SPOOFED: pcp.Result.NOT_AUTHORIZED,
    Refused.REVOKED: pcp.Result.NOT_AUTHORIZED,
    Refused.NOT_ITS_OWN: pcp.Result.NOT_AUTHORIZED,
    Refused.TOO_MANY: pcp.Result.USER_EX_QUOTA,
    Refused.TOO_MANY_REMOTES: pcp.Result.EXCESSIVE_REMOTE_PEERS,
    Refused.NOT_FREE: pcp.Result.CANNOT_PROVIDE_EXTERNAL,
    Refused.NONE_FREE: pcp.Result.NO_RESOURCES,
    Refused.NO_ADDRESS: pcp.Result.NETWORK_FAILURE,
    Refused.FULL: pcp.Result.NO_RESOURCES,
}
NAT_PMP_RESULTS: Final = {
    Refused.TOO_MANY: nat_pmp.Result.OUT_OF_RESOURCES,
    Refused.NONE_FREE: nat_pmp.Result.OUT_OF_RESOURCES,
    Refused.NO_ADDRESS: nat_pmp.Result.NETWORK_FAILURE,
    Refused.FULL: nat_pmp.Result.OUT_OF_RESOURCES,
}


@dataclass(frozen=True, slots=True)
class Answer:
    """The message to send, and `failed` instead if the kernel did not carry out `changed`: mappings that are new,
    extended or ended. `refused` gives the reason for a refusal, for the log.
    """

    data: bytes
    failed: bytes = b""
    opened: PortMapping | None = None
    ended: tuple[PortMapping, ...] = ()
    refused: Refused | None = None
    wish: Wish | None = None

    @property
    def changed(self) -> bool:
        """Whether the kernel has to do something first."""
        return self.opened is not None or bool(self.ended)


class Answers:
    """Of one book, kept since `begun`. `address` says the IPv4 address outside, empty for none."""

    def __init__(self, book: Book, begun: Nanoseconds, address: Callable[[], bytes]) -> None:
        self.book = book
        self._begun = begun
        self._address = address

    def epoch(self, now: Nanoseconds) -> int:
        """For so many seconds the mappings have been kept (RFC 6887 §8.5, RFC 6886 §3.6)."""
        return (now - self._begun) // SECOND

    def answer(self, data: bytes, sender: Sender, now: Nanoseconds) -> Answer | None:
        """Answer a host's datagram; None if no answer is due. Never raises."""
        if data[:1] == bytes((nat_pmp.VERSION,)):
            return self._nat_pmp(data, sender, now)
        return self._pcp(data, sender, now)

    def _pcp(self, data: bytes, sender: Sender, now: Nanoseconds) -> Answer | None:
        source = sender.host
        epoch = self.epoch(now)
        request = pcp.parse(data)
        if request is None:
            return None
        if isinstance(request, pcp.Result):
            return Answer(pcp.refusal(data, request, epoch))
        if request.client != source:
            return Answer(pcp.refusal(data, pcp.Result.ADDRESS_MISMATCH, epoch))
        if isinstance(request, pcp.AnnounceRequest):
            return Answer(pcp.announcement(epoch))
        if request.protocol not in TRANSPORTS and (request.protocol or request.lifetime):
            return Answer(pcp.refusal(data, pcp.Result.UNSUPP_PROTOCOL, epoch))
        if any(len(each.address) != len(source) for each in request.filters):
            return Answer(pcp.refusal(data, pcp.Result.MALFORMED_OPTION, epoch))
        if not request.lifetime:
            ended = self.book.end(sender, request.protocol, request.inside, request.nonce)
            if isinstance(ended, Refused):
                return Answer(pcp.refusal(data, PCP_RESULTS[ended], epoch))
            done = pcp.answer(request, 0, request.outside, request.external, epoch)
            failed = pcp.refusal(data, pcp.Result.NETWORK_FAILURE, epoch)
            return Answer(done, failed, ended=tuple(ended))
        wish = Wish(
            sender,
            request.protocol,
            request.inside,
            request.lifetime,
            "PCP",
            request.outside,
            request.external,
            request.nonce,
            request.prefer_failure,
            request.filters,
            request.anew,
        )
        mapping = self.book.ask(wish, now)
        if isinstance(mapping, Refused):
            return Answer(pcp.refusal(data, PCP_RESULTS[mapping], epoch), refused=mapping, wish=wish)
        done = pcp.answer(request, mapping.left(now), mapping.outside, mapping.external, epoch)
        return Answer(done, pcp.refusal(data, pcp.Result.NETWORK_FAILURE, epoch), mapping, wish=wish)

    def _nat_pmp(self, data: bytes, sender: Sender, now: Nanoseconds) -> Answer | None:
        source = sender.host
        epoch = self.epoch(now)
        request = nat_pmp.parse(data)
        if request is None or len(source) != 4:
            return None
        if isinstance(request, nat_pmp.Result):
            return Answer(nat_pmp.refusal(data, request, epoch))
        failed = nat_pmp.refusal(data, nat_pmp.Result.NETWORK_FAILURE, epoch)
        if isinstance(request, nat_pmp.AddressRequest):
            external = self._address()
            return Answer(nat_pmp.address(external, epoch) if external else failed)
        if not request.lifetime:
            ended = self.book.end(sender, request.protocol, request.inside, b"")
            if isinstance(ended, Refused):
                return Answer(nat_pmp.refusal(data, nat_pmp.Result.NOT_AUTHORIZED, epoch))
            return Answer(nat_pmp.answer(request, 0, 0, epoch), failed, ended=tuple(ended))
        wish = Wish(
            sender,
            request.protocol,
            request.inside,
            request.lifetime,
            "NAT-PMP",
            request.outside,
        )
        mapping = self.book.ask(wish, now)
        if isinstance(mapping, Refused):
            result = NAT_PMP_RESULTS.get(mapping, nat_pmp.Result.NOT_AUTHORIZED)
            return Answer(nat_pmp.refusal(data, result, epoch), refused=mapping, wish=wish)
        return Answer(nat_pmp.answer(request, mapping.left(now), mapping.outside, epoch), failed, mapping, wish=wish)
