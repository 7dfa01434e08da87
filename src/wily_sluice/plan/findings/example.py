"""A small plan without findings. Each kind of finding has an example that changes a part of it."""

from typing import Any, Final

from wily_sluice.plan.file.yaml_text import parse

PLAN: Final = """\
site: Example
uplinks:
  line: {interface: wan0, down: 50 Mbit/s, up: 10 Mbit/s, headroom: 8%}
networks:
  office: {interface: lan0, subnets: [192.0.2.0/24]}
  guests: {interface: lan1, subnets: [198.51.100.0/24]}
trees:
  main:
    queues:
      calls: {guarantee: 20%, priority: 1}
      rest: {guarantee: 20%, default: true}
rules:
  - {service: calls, queue: calls}
"""


def merged(whole: Any, part: Any) -> Any:
    """A plan with changes: sets of keys are merged, `null` removes a key, anything else is replaced."""
    if not isinstance(whole, dict) or not isinstance(part, dict):
        return part
    result = {key: value for key, value in whole.items() if part.get(key, value) is not None}
    for key, value in part.items():
        if value is not None:
            result[key] = merged(whole.get(key), value)
    return result


def with_part(part: str) -> dict[str, Any]:
    """The example's data with this part of a plan, in YAML, merged into it."""
    data: dict[str, Any] = merged(parse(PLAN)[0], parse(part)[0])
    return data
