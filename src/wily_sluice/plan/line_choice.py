"""Chooses the uplink of a conversation: by routes, refused queues, and remaining quotas."""

from wily_sluice.engine.classify.classifier import NO_LINE
from wily_sluice.engine.conversations.conversation import Conversation
from wily_sluice.engine.site import SiteEngine
from wily_sluice.plan.model import Plan, Tunnel, Uplink


def line_of(plan: Plan, engine: SiteEngine, conversation: Conversation) -> Uplink | Tunnel | None:
    """The uplink of a new conversation, by present knowledge; None if no route has one.

    `engine` was built from the plan. A route with weights counts the conversation.
    """
    classifier = next(iter(engine.shapers.values())).classifier
    _, line = engine.router.choose(classifier.subject(conversation), refusing(plan, engine, conversation))
    return plan.lines[line] if line != NO_LINE else None


def spent_routes(plan: Plan, engine: SiteEngine) -> frozenset[str]:
    """The names of the routes whose part of a quota is used up."""
    quotas = {limiter.name: limiter.quota.size for limiter in plan.limiters if limiter.quota is not None}
    spent = set()
    for route in plan.routing:
        budget = route.budget
        if budget is not None and budget.limiter in engine.ledgers:
            used = sum(engine.ledgers[budget.limiter].used().values())
            if used >= budget.share * quotas[budget.limiter]:
                spent.add(route.name)
    return frozenset(spent)


def refusing(plan: Plan, engine: SiteEngine, conversation: Conversation) -> frozenset[int]:
    """The lines that refuse the queue of a conversation, and tunnels over these; by their places in `Plan.lines`."""
    lines = {
        uplink.name
        for uplink in plan.uplinks
        if uplink.refuses and engine.shapers[uplink.name, "up"].leaf_of(conversation).path in uplink.refuses
    }
    if not lines:
        return frozenset()
    carriers = {tunnel.name: tunnel.uplink for tunnel in plan.tunnels}
    return frozenset(n for n, line in enumerate(plan.lines) if carriers.get(line.name, line.name) in lines)
