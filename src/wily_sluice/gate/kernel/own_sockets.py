"""Closes connections of this machine's own programs over a failed uplink, so that they open new ones.

A program that only receives, as in a download, would wait for long: its address belongs to the failed uplink, and no
packet arrives there. The kernel closes its connection on request (sock_diag(7), SOCK_DESTROY, which not every kernel
has), and the program sees an abort.
"""

import socket
import struct
from collections.abc import Iterable
from contextlib import suppress
from ipaddress import ip_address
from typing import Final

from wily_sluice.engine.classify.header import TCP, Parties

NO_COOKIE: Final = (1 << 64) - 1  # whichever connection it is that has these parties


def close(conversations: Iterable[Parties]) -> None:
    """Close those of TCP whose local party is a connection of this machine; others are left as they are."""
    from pyroute2 import DiagSocket, IPRoute  # which takes its time, and few plans need it
    from pyroute2.netlink import NLM_F_REQUEST
    from pyroute2.netlink.diag import SOCK_DESTROY, inet_diag_req

    with IPRoute() as kernel:
        own = {ip_address(address.get_attr("IFA_ADDRESS")).packed for address in kernel.get_addr()}
    asked = [who for who in conversations if who.protocol == TCP and who.local in own]
    if not asked:
        return
    with DiagSocket() as sockets:
        sockets.bind()
        for who in asked:
            request = inet_diag_req()
            request["sdiag_family"] = socket.AF_INET if len(who.local) == 4 else socket.AF_INET6
            request["sdiag_protocol"] = socket.IPPROTO_TCP
            request["idiag_sport"], request["idiag_dport"] = who.local_port, who.remote_port
            request["idiag_src"], request["idiag_dst"] = _words(who.local), _words(who.remote)
            request["idiag_cookie"] = NO_COOKIE
            with suppress(OSError):  # it is over already, or this kernel does not do it
                sockets.put(request, SOCK_DESTROY, NLM_F_REQUEST)


def _words(address: bytes) -> tuple[int, ...]:
    return struct.unpack("!4I", address.ljust(16, b"\0"))
