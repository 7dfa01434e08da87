import json
from pathlib import Path

import pytest

from tools.make_findings_page import FIXED, IMPROVED, PAGE, page
from wily_sluice.outside.files import examine
from wily_sluice.outside.plan_edits import TextFile
from wily_sluice.plan import read
from wily_sluice.plan.edit.fixes import fixed
from wily_sluice.plan.file.yaml_text import YamlError, parse
from wily_sluice.plan.findings.finding import Finding
from wily_sluice.plan.findings.kind import PLAN, Kind, shown, with_part
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


def found_in_example(kind: Kind) -> list[Finding]:
    try:
        content = json.dumps(with_part(kind.has)).encode()
    except YamlError:
        return []
    return [one for one in read.examine(TextFile(Path("x.yaml"), content))[1] if one.code == kind.code]


@pytest.mark.parametrize("kind", CODES.values(), ids=CODES.keys())
def test_a_finding_is_in_its_example_and_not_in_what_is_nearly_the_same(kind: Kind, tmp_path: Path) -> None:
    found = [finding for finding in findings_with(kind.has, tmp_path) if finding.code == kind.code]
    assert found and {finding.severity for finding in found} == {kind.severity}
    assert not findings_with(kind.lacks, tmp_path), "what it shows as right has another finding"
    assert kind.story and "null" not in shown(kind.has) + shown(kind.lacks)


def test_the_example_plan_has_no_findings(tmp_path: Path) -> None:
    assert findings_with("{}", tmp_path) == []


FIXABLE = {code: kind for code, kind in CODES.items() if any(one.fix for one in found_in_example(kind))}


@pytest.mark.parametrize("kind", FIXABLE.values(), ids=FIXABLE.keys())
def test_a_fix_leaves_a_plan_that_no_longer_has_the_finding(kind: Kind, tmp_path: Path) -> None:
    file = tmp_path / "sluice.yaml"
    content = json.dumps(with_part(kind.has)).encode()
    result = fixed(content, lambda text: TextFile(file, text), improve=True)
    assert kind.code not in {finding.code for finding in result.findings}
    errors = {(one.code, one.key) for one in findings_with(kind.has, tmp_path) if one.severity == "error"}
    assert {(one.code, one.key) for one in result.findings if one.severity == "error"} <= errors
    expected = with_part(kind.has)
    for operation in dict.fromkeys(operation for one in found_in_example(kind) for operation in one.fix):
        operation.on(expected)
    assert parse(result.content.decode())[0] == expected
    # Without consent, it is either made and changes nothing, or it is skipped with the reason.
    cautious = fixed(content, lambda text: TextFile(file, text))
    assert (kind.code in FIXED) == (cautious.content == result.content)
    assert (kind.code in FIXED) != any(finding.code == kind.code and why for finding, why in cautious.skipped)


def test_the_page_of_findings_is_what_the_program_knows() -> None:
    assert PAGE.read_text() == page()
    assert set(FIXABLE) <= FIXED | IMPROVED
