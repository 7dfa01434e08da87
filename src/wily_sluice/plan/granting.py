"""Reads a plan's grants of mappings, and its kept ports."""

from collections.abc import Callable

from wily_sluice.plan.asking import Party
from wily_sluice.plan.file.schema import MappingEntry, NatEntry
from wily_sluice.plan.grant import TRANSPORTS, Grant
from wily_sluice.plan.terms import Resolver


class Grants:
    """The grants of one plan file; `error` receives problems with their places."""

    def __init__(self, resolve: Resolver, uplinks: list[str], error: Callable[..., None]) -> None:
        self._resolve = resolve
        self._uplinks = uplinks
        self._error = error

    def grant(self, index: int, e: MappingEntry) -> Grant:
        """An entry of `mappings`; problems are reported."""
        here = ("mappings", index)
        self._resolve.require((*here, "uplink"), "uplink", e.uplink, self._uplinks)
        ports: dict[int, tuple[tuple[int, int], ...]] = {}
        for protocol in e.protocol or TRANSPORTS:
            if protocol not in TRANSPORTS:
                self._error((*here, "protocol"), "only ports of TCP and UDP can be opened", "write tcp, udp, or both")
        for transport, span in self._resolve.ports((*here, "port"), e.port):
            for protocol in TRANSPORTS:
                if protocol in (e.protocol or TRANSPORTS) and transport in (None, protocol):
                    ports[protocol] = (*ports.get(protocol, ()), span)
        services = self._resolve.services_named((*here, "service"), (e.service,)) if e.service is not None else ()
        if len(services) > 1:
            self._error(
                (*here, "service"), f"“{e.service}” is several services", f"name one, such as {services[0].name}"
            )
        return Grant(
            e.name or f"mapping {index + 1}",
            index,
            self._resolve.party((*here, "local"), e.local),
            ports,
            e.count,
            e.lifetime,
            e.uplink or next(iter(self._uplinks), ""),
            services[0].name if services else "",
            e.enabled,
            e.note,
        )

    def steady(self, e: NatEntry) -> Party | None:
        """The hosts that keep their ports; None if there are none."""
        if not e.keep_ports:
            return None
        party = self._resolve.party(("nat", "keep-ports"), e.keep_ports)
        if party.members.hardware:
            message = "hardware addresses are not known where packets are translated"
            self._error(("nat", "keep-ports"), message, "write the hosts' addresses")
        return party
