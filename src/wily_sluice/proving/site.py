"""Sets up a proof on the gate that runs: our own host, with free addresses, and the session with the far end."""

import tempfile
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from ipaddress import ip_address
from pathlib import Path

from wily_sluice.errors import LiveError
from wily_sluice.forecast.prove.bench import Bench
from wily_sluice.forecast.prove.example import examples, first_of
from wily_sluice.gate.kernel.command import PYTHON
from wily_sluice.plan.asking import Terms
from wily_sluice.proving.far_side import FarSide
from wily_sluice.proving.live import LiveWorld
from wily_sluice.proving.probe import free, probe, uplink_to
from wily_sluice.rig.promises.program import Program

MOST_ADDRESSES = 200
MORE_OF_A_NETWORK = 24


@contextmanager
def live_world(bench: Bench, host: str, port: int, key: bytes, tell: Callable[[str], None]) -> Iterator[LiveWorld]:
    """The gate of this machine and a far end as a world, while the context lasts. LiveError when it cannot be."""
    interface, _ = uplink_to(host)
    uplink = next((one for one in bench.plan.uplinks if one.interface == interface), None)
    if uplink is None:
        raise LiveError(f"{host} is reached by {interface}, which is no uplink of the plan")
    far = FarSide(host, port, key)
    tell("looking for unused addresses …")
    width = len(ip_address(host).packed)
    found = sorted(free(str(ip_address(one)) for one in addresses(bench, width)))
    if not found:
        raise LiveError("there is no unused address for the temporary host")
    with ExitStack() as stack:
        stack.callback(far.close)
        folder = Path(stack.enter_context(tempfile.TemporaryDirectory()))
        command = stack.enter_context(probe(found))
        near = Program([*command, *PYTHON, "wily_sluice.rig.promises.traffic_program"], folder / "traffic.log")
        stack.callback(near.close)
        yield LiveWorld(bench, uplink, host, far, near, [ip_address(one).packed for one in found])


def addresses(bench: Bench, width: int) -> list[bytes]:
    """Addresses of this length that the plan's promises can be tested with: from all rules and limiters, and some of
    each network.
    """
    plan = bench.plan
    asked = [Terms(), *(rule.terms for rule in plan.sorting), *(limiter.terms for limiter in plan.limiters)]
    found = dict.fromkeys(one.parties.local for terms in asked for one in examples(plan, terms))
    for network in plan.networks:
        middle = first_of(network.addresses, width)
        if middle is not None:
            number = int.from_bytes(middle)
            for step in range(MORE_OF_A_NETWORK):
                more = (number + 7 * step).to_bytes(width)
                if more in network.addresses:
                    found[more] = None
    return [one for one in found if len(one) == width][:MOST_ADDRESSES]
