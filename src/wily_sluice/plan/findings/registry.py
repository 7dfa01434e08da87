"""All kinds of finding beyond the form of the file, and the check of a plan."""

from typing import Final

from wily_sluice.plan.file.document import Reading
from wily_sluice.plan.file.schema import PlanEntry
from wily_sluice.plan.file.words import suggestion
from wily_sluice.plan.findings import (
    capacity,
    caps,
    guarantees,
    limiters,
    mapped,
    named,
    networks,
    routes,
    rules,
    schedules,
    trees,
    uplinks,
    urgent,
)
from wily_sluice.plan.findings import named as asked
from wily_sluice.plan.findings import networks as versions
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.forms import FORMS
from wily_sluice.plan.findings.kind import Checked, Kind
from wily_sluice.plan.model import Plan

KINDS: Final[tuple[Kind, ...]] = (
    uplinks.missing_part,
    networks.interface_shared,
    uplinks.uplink_loop,
    uplinks.failure_unseen,
    uplinks.probe_nowhere,
    networks.networks_overlap,
    networks.network_too_wide,
    uplinks.nothing_usable,
    uplinks.little_headroom,
    uplinks.rate_too_low,
    uplinks.binary_rate,
    uplinks.measured_as_advertised,
    uplinks.uplink_unmeasured,
    uplinks.measured_above_advertised,
    uplinks.acks_fill_uplink,
    mapped.mapping_nothing,
    mapped.mapping_to_network,
    mapped.mapping_low_port,
    mapped.mapping_wide,
    mapped.keep_ports_nothing,
    trees.default_parent,
    trees.default_twice,
    trees.no_default,
    trees.delay_without_curve,
    trees.priority_below_curve,
    trees.tree_unused,
    trees.queue_unused,
    trees.queue_refused,
    trees.direction_single_queue,
    guarantees.guarantees_overbooked,
    guarantees.guarantees_above_lowest,
    guarantees.guarantee_below_strict,
    capacity.cap_above_parent,
    guarantees.guarantee_above_cap,
    guarantees.share_of_nothing,
    guarantees.delay_without_guarantee,
    capacity.default_starves,
    capacity.acks_outgrow_queue,
    capacity.capacity_unusable,
    capacity.caps_to_reserve,
    guarantees.delays_overbooked,
    capacity.strict_starves,
    capacity.default_capped,
    capacity.limit_delays,
    limiters.caps_nothing,
    limiters.caps_nobody,
    versions.caps_one_version,
    limiters.cap_without_effect,
    limiters.engage_without_effect,
    limiters.peak_below_rate,
    limiters.second_burst_unused,
    limiters.burst_below_packet,
    limiters.burst_below_window,
    caps.quota_of_conversation,
    caps.quota_unbounded,
    limiters.limiter_redundant,
    caps.total_cap_small,
    caps.caps_overbook,
    caps.rate_blocks,
    caps.engage_idle,
    asked.outside_networks,
    asked.own_remote,
    asked.mapped_remote,
    asked.ports_without_protocol,
    networks.network_unlimited,
    rules.queue_not_in_tree,
    routes.route_unrecognised,
    routes.route_unreachable,
    routes.route_refused,
    routes.refused_midway,
    rules.reach_unknown,
    rules.rule_contradictory,
    rules.rule_repeated,
    rules.rule_unreachable,
    versions.rule_one_version,
    versions.rule_one_transport,
    rules.bulk_first,
    rules.films_with_updates,
    urgent.urgent_capped,
    urgent.bulk_urgent,
    urgent.tunnel_urgent,
    urgent.host_urgent,
    urgent.guests_first,
    urgent.names_starve,
    urgent.guarantee_below_call,
    rules.too_many_rates,
    rules.too_many_lengths,
    rules.mark_unheeded,
    named.named_twice,
    named.schedule_never,
    schedules.schedule_gap,
    schedules.schedule_half_day,
    schedules.schedule_next_day,
    named.group_unused,
    named.address_may_change,
    named.service_unused,
    named.schedule_unused,
)
CODES: Final = {kind.code: kind for kind in (*FORMS, *KINDS)}


def check(plan: Plan, reading: Reading[PlanEntry], warnings: bool = True) -> list[Finding]:
    """All findings beyond those of reading the file; without `warnings`, errors alone."""
    checked = Checked(plan, reading)
    findings: list[Finding] = []
    for kind in KINDS:
        if (kind.whole and reading.cut) or not (warnings or kind.severity == "error"):
            continue
        places = set()
        for report in kind.find(checked):
            if not (kind.once and report.location in places) and not (
                kind.severity != "error" and reading.document.allows(kind.code, report.location)
            ):
                findings.append(reading.document.finding(kind.severity, *report[:3], kind.code, report.fix))
            places.add(report.location)
    return findings


def check_allowances(reading: Reading[PlanEntry], findings: list[Finding]) -> list[Finding]:
    """Problems of the comments that allow findings. Call it after all other checks."""
    file = reading.document.file
    unused = []
    for allowance in reading.document.allowances:

        def tell(message: str, remedy: str, line: int = allowance.line) -> Finding:
            return Finding("warning", file, line, "", message, remedy, "allowance")

        if allowance.code not in CODES:
            known = [code for code in CODES if CODES[code].severity != "error"]
            remedy = (
                suggestion(allowance.code, known, "`sluice explain` lists them")
                if allowance.code
                else "write a finding's code"
            )
            unused.append(
                tell(f"there is no finding “{allowance.code}” to allow" if allowance.code else "allows nothing", remedy)
            )
        elif CODES[allowance.code].severity == "error":
            unused.append(
                tell(f"{allowance.code} is an error, which cannot be allowed", "fix it, and remove the comment")
            )
        elif not allowance.reason:
            unused.append(
                tell(f"allows {allowance.code} without saying why", f"write `# sluice: allow {allowance.code} REASON`")
            )
        elif not allowance.used and not any(finding.severity == "error" for finding in findings):
            unused.append(tell(f"allows {allowance.code}, which is not found here", "remove the comment"))
    return unused
