"""Every host's packets are shaped, whatever their version of IP and transport."""

from collections.abc import Iterator

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, UDP, Parties
from wily_sluice.engine.conversations.strangers import GATEWAY
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import LOCAL_PORT, REMOTE, REMOTE_PORT, Example, first_of
from wily_sluice.forecast.prove.proof import Judged, Promise, Proof
from wily_sluice.forecast.prove.setting import Where, World
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Uplink


def promises(bench: Bench) -> Iterator[Promise]:
    """TCP, UDP and ICMP of a host of each network and version, and of the gateway, on each uplink."""
    for uplink in bench.plan.uplinks:
        homes: list[tuple[str, AddressSet, Location]] = [
            (network.name, network.addresses, ("networks", network.name, "subnets")) for network in bench.plan.networks
        ]
        for name, addresses, place in (*homes, (GATEWAY.name, GATEWAY.addresses, ("uplinks", uplink.name))):
            for version, width in ((4, 4), (6, 16)):
                local = first_of(addresses, width)
                if local is not None:
                    yield _passes(uplink, name, place, version, local)


def _passes(uplink: Uplink, name: str, place: Location, version: int, local: bytes) -> Promise:
    remote = REMOTE[len(local)]
    parties = {
        "TCP": Parties(TCP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "UDP": Parties(UDP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "ICMP": Parties(ICMP if version == 4 else ICMPV6, local, remote, 0, 0),
    }
    proof = Proof(
        "traffic",
        f"{name}, IPv{version}",
        uplink.name,
        place,
        f"{', '.join(parties)} go through the gate",
        uplink=uplink.name,
    )

    def judge(world: World) -> Judged:
        past = [name for name, one in parties.items() if not world.where(Where(uplink.name, Example(one)))]
        return Judged(not past, f"{', '.join(past)} past the gate" if past else "they do")

    return Promise(proof, judge)
