import json
from pathlib import Path

import pytest

from wily_sluice.outside.files import examine
from wily_sluice.plan.file.yaml_text import YamlError
from wily_sluice.plan.findings.example import PLAN, with_part
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.kind import Kind
from wily_sluice.plan.findings.registry import CODES


def findings_with(part: str, folder: Path) -> list[Finding]:
    file = folder / "sluice.yaml"
    try:
        file.write_text(json.dumps(with_part(part), ensure_ascii=False))
    except YamlError:
        file.write_text(part)
    if "#" in part:  # a comment is no data
        file.write_text(PLAN.replace("headroom: 8%}", part.partition("line: {")[2]))
    return examine(file)[1]


@pytest.mark.parametrize("kind", CODES.values(), ids=CODES.keys())
def test_a_finding_is_in_its_example_and_not_in_what_is_nearly_the_same(kind: Kind, tmp_path: Path) -> None:
    found = [finding for finding in findings_with(kind.has, tmp_path) if finding.code == kind.code]
    assert found and {finding.severity for finding in found} == {kind.severity}
    assert not findings_with(kind.lacks, tmp_path)
    assert kind.story


def test_the_example_plan_has_no_findings(tmp_path: Path) -> None:
    assert findings_with("{}", tmp_path) == []
