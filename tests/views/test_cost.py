import io

import pytest
from rich.console import Console

from wily_sluice.plan.model import Plan
from wily_sluice.rig.cost import FULL, MIX, Carried, Cost, needed
from wily_sluice.views.live.cost import cost_data, print_cost


def test_full_lines_need_as_many_packets_as_their_frames_have_room_for(demo_plan: Plan) -> None:
    # A packet of 1500 takes 1530 bytes over PPPoE and Ethernet, in PTM's blocks of 64 that take 65; and 1518 without.
    fibre, mobile = (165.6e6 + 22.08e6) / 8 / 1554, (34e6 + 6.8e6) / 8 / 1518
    assert needed(demo_plan, FULL) == pytest.approx(fibre + mobile, rel=1e-4)


@pytest.mark.parametrize(
    ("carried", "told"),
    [(100_000, "uses 32% of one core"), (40_000, "little to spare"), (20_000, "cannot carry the plan")],
)
def test_a_plan_that_the_machine_cannot_carry_is_told_before_it_is_applied(
    demo_plan: Plan, carried: int, told: str
) -> None:
    cost = Cost(*(Carried(sizes, 200_000, 150_000, carried) for sizes in (FULL, MIX)), stolen=0.05)
    screen = io.StringIO()
    print_cost(Console(file=screen, width=140), demo_plan, cost, "")
    assert told in screen.getvalue()
    assert "5% of the processor time was taken by the host" in screen.getvalue()
    assert cost_data(demo_plan, cost)["mix"]["share_of_a_core"] == pytest.approx(needed(demo_plan, MIX) / carried, 1e-3)
