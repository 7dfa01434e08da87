"""Where promises are tried: shapers of a plan, or of one with a thing changed, and conversations for each leaf."""

from collections.abc import Iterator, Sequence
from dataclasses import replace
from datetime import date, datetime, timedelta
from functools import cache
from zoneinfo import ZoneInfo

from wily_sluice.engine.packet import Packet
from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.engine.shaper import Shaper
from wily_sluice.engine.site import SiteEngine
from wily_sluice.forecast.prove.example import Example, examples, rule_of
from wily_sluice.forecast.prove.flood import Came, Stream, flood, time_for
from wily_sluice.plan.asking import Terms
from wily_sluice.plan.build import build_site
from wily_sluice.plan.file.yaml_text import Location
from wily_sluice.plan.model import Directional, Limiter, Plan, Queue, Tree, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import DIRECTIONS, Direction, Nanoseconds, Rate

DAYS, STEP = 370, 30  # how far a schedule is looked at, and in steps of how many minutes
FLOOD = 1.5  # times the line, of all streams together at least


def _drop(_: Packet) -> None:
    """A flood is not answered."""


class Bench:
    """For one plan. Everything that a schedule governs holds."""

    def __init__(self, plan: Plan) -> None:
        self.plan = plan
        self._leaves = cache(self._find_leaves)

    def ways(self) -> Iterator[tuple[Uplink, Direction]]:
        """Every direction of every uplink."""
        for uplink in self.plan.uplinks:
            for way in DIRECTIONS:
                yield uplink, way

    def spec(self, uplink: Uplink, way: Direction) -> QueueSpec:
        """The tree with every figure resolved."""
        return resolve(self.plan, uplink, way)

    def shaper(self, uplink: Uplink, way: Direction, plan: Plan | None = None) -> Shaper:
        """A shaper that has seen nothing."""
        return build_site(plan or self.plan, _drop).shapers[uplink.name, way]

    def flood(
        self,
        uplink: Uplink,
        way: Direction,
        streams: Sequence[Stream],
        plan: Plan | None = None,
        least: Nanoseconds = 0,
        spent: bool = False,
    ) -> list[Came]:
        """What comes of some streams, in no less than some time; with quotas used up, if they are `spent`."""
        whole = sum(stream.rate for stream in streams)
        lasts = max(least, time_for(min(whole, uplink.usable(way))))
        return flood(self.shaper(uplink, way, plan), way, uplink.framing, streams, lasts, spent)

    def at(self, moment: datetime) -> SiteEngine:
        """An engine that knows what time it is."""
        engine = build_site(self.plan, _drop)
        engine.at(moment)
        return engine

    def moments(self, when: str) -> tuple[datetime | None, datetime | None]:
        """A moment at which a schedule holds, and one at which it does not, well away from where it changes."""
        zone, schedule = ZoneInfo(self.plan.timezone), self.plan.schedules[when]
        begin = schedule.first or date(2027, 1, 4)  # a Monday
        midnight = datetime(begin.year, begin.month, begin.day, tzinfo=zone)
        found: dict[bool, datetime] = {}
        for step in range(0, DAYS * 24 * 60, STEP):
            around = [midnight + timedelta(minutes=step + more) for more in (-STEP, 0, STEP)]
            held = {schedule.holds(moment) for moment in around}
            if len(held) == 1:
                found.setdefault(held.pop(), around[1])
            if len(found) == 2:
                break
        return found.get(True), found.get(False)

    def leaves(self, uplink: Uplink, way: Direction) -> dict[str, Example]:
        """A conversation for each leaf that one can be found for, and that no limiter caps."""
        return self._leaves(uplink.name, way)

    def _find_leaves(self, name: str, way: Direction) -> dict[str, Example]:
        uplink = next(one for one in self.plan.uplinks if one.name == name)
        plan = without_limiters(self.plan)
        shaper, tree = self.shaper(uplink, way, plan), plan.tree(uplink, way)
        found: dict[str, Example] = {}
        for index, rule in enumerate(plan.sorting):
            leaf = rule.queues.get(tree.name)
            if leaf is not None and leaf not in found and not rule.terms.kinds and "length" not in rule.terms.asked:
                example = next((one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index), None)
                if example is not None:
                    found[leaf] = example
        default = next((one for one in examples(plan, Terms()) if rule_of(shaper, one) < 0), None)
        if default is not None:
            found[tree.default.path] = default
        for index, rule in enumerate(plan.sorting):  # leaves that only some kinds of packets go to
            leaf = rule.queues.get(tree.name)
            if leaf is not None and leaf not in found:
                example = next((one for one in examples(plan, rule.terms) if rule_of(shaper, one) == index), None)
                if example is not None:
                    found[leaf] = example
        return found

    def full_streams(self, uplink: Uplink, way: Direction) -> dict[str, Stream]:
        """A flood for each leaf, each of more than the line has."""
        rate: Rate = round(uplink.usable(way) * FLOOD)
        return {path: Stream(example, rate) for path, example in self.leaves(uplink, way).items()}


def without_limiters(plan: Plan) -> Plan:
    """The plan with all its limiters switched off, to look at the tree alone."""
    return replace(plan, limiters=tuple(replace(one, enabled=False) for one in plan.limiters))


def with_limiter(plan: Plan, limiter: Limiter) -> Plan:
    """The plan with one limiter alone."""
    return replace(plan, limiters=tuple(replace(one, enabled=one.name == limiter.name) for one in plan.limiters))


def with_queue(plan: Plan, tree: Tree, path: str, **changes: object) -> Plan:
    """The plan with a queue of a tree changed."""

    def changed(queues: tuple[Queue, ...]) -> tuple[Queue, ...]:
        return tuple(
            replace(queue, **changes)  # type: ignore[arg-type]  # by name
            if queue.path == path
            else replace(queue, children=changed(queue.children))
            for queue in queues
        )

    other = replace(tree, queues=changed(tree.queues))
    return replace(plan, trees={**plan.trees, tree.name: other})


NOTHING: Directional[object] = Directional(None, None)


def queue_location(tree: Tree, path: str, key: str) -> Location:
    """Where a key of a queue stands in the file."""
    return ("trees", tree.name, *(part for name in path.split("/") for part in ("queues", name)), key)


def leaf_of(bench: Bench, plan: Plan, uplink: Uplink, example: Example) -> str:
    """The path of the leaf that a conversation goes to."""
    conversation = example.conversation()
    leaf = bench.shaper(uplink, "up", plan).lane_for(conversation, example.subject(conversation)).leaf
    return str(leaf.path)
