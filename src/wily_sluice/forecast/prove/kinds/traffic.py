"""Every host's packets are shaped, whatever their version of IP and transport."""

from collections.abc import Iterator

from wily_sluice.engine.classify.addresses import AddressSet
from wily_sluice.engine.classify.header import ICMP, ICMPV6, TCP, UDP, Parties
from wily_sluice.engine.conversations.strangers import GATEWAY
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import LOCAL_PORT, REMOTE_PORT, Example, first_of, remote_for
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
                    yield _passes(bench, uplink, name, place, version, local)


def _passes(bench: Bench, uplink: Uplink, name: str, place: Location, version: int, local: bytes) -> Promise:
    remote = remote_for(bench.plan, len(local))
    parties = {
        "TCP": Parties(TCP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "UDP": Parties(UDP, local, remote, LOCAL_PORT, REMOTE_PORT),
        "ICMP": Parties(ICMP if version == 4 else ICMPV6, local, remote, 0, 0),
    }
    askings = {name: Where(uplink.name, Example(one)) for name, one in parties.items()}
    refused = all(bench.where(asked) in uplink.refuses for asked in askings.values())
    proof = Proof(
        "traffic",
        f"{name}, IPv{version}",
        uplink.name,
        place,
        f"{', '.join(parties)} {'are refused here' if refused else 'go through the gate'}",
        uplink=uplink.name,
    )

    def judge(world: World) -> Judged:
        queues = {name: world.where(asked) for name, asked in askings.items()}
        past = [name for name, queue in queues.items() if not queue or (queue in uplink.refuses) != refused]
        return Judged(not past, f"{', '.join(past)} past the gate" if past else "they are" if refused else "they do")

    return Promise(proof, judge)
