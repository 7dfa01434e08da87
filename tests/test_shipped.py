"""What ships: no real name in any capture or file, and no word that was given up."""

import re
import subprocess
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
FILES = [
    ROOT / name
    for name in subprocess.run(["git", "ls-files"], cwd=ROOT, capture_output=True, text=True, check=False).stdout.split(
        "\n"
    )
    if name and (ROOT / name).is_file()
]
# Names of RFC 2606 and RFC 6761 are nobody's; so are these, which are not hosts.
OURS = re.compile(
    rb"(?:^|\.)(?:example|test|invalid|localhost)(?:\.(?:com|net|org))?$|^(?:json-schema|www\.w3|www\.apache)\.org$"
)
DOMAIN = re.compile(
    rb"(?<![\w.@-])(?:[a-z0-9-]{2,63}\.)+(?:com|org|net|io|edu|gov|info|uk|de|fr|nl|cn|jp|me|tv|app|dev)(?![\w-])", re.I
)
# What a program calls itself; where it was taken out, it is a row of x.
BANNER = re.compile(
    rb"(?:^|[\r\n])(?:user-agent|server|x-mailer|x-powered-by):[ \t]*([^\r\n]{1,80})|(SSH-\d\.\d+-[^\r\n]{1,60})", re.I
)


@pytest.mark.skipif(not FILES, reason="not a checkout")
def test_no_capture_carries_a_real_domain_or_says_which_program_made_it() -> None:
    found = []
    for file in FILES:
        if file.suffix == ".pcap":
            content = file.read_bytes()
            found += [(file.name, name) for name in DOMAIN.findall(content) if not OURS.search(name)]
            banners = [match[1] or match[2] for match in BANNER.finditer(content)]
            found += [(file.name, banner) for banner in banners if b"xxx" not in banner]
    assert found == []


GIVEN_UP = (
    r"sluice (?:share|trace|names)\b", r"\bshow tree\b(?!s)", r"--most\b", r"\bkeep-names\b",
    r"\b31337\b", r"\b271\d\d\b",
    r"\b[a-z]+-(?:llc|vc|ptm|wire)\b", r"\bflow(?:s|ing)? past\b", r"\bunless said\b", r"\bbrothers\b", r"\btold by\b",
    r"\bat your word\b", r"\bso far\b:?$",
)  # fmt: skip


@pytest.mark.skipif(not FILES, reason="not a checkout")
def test_no_page_or_message_uses_a_name_or_phrase_that_was_given_up() -> None:
    pattern = re.compile("|".join(GIVEN_UP), re.I | re.M)
    found = []
    for file in FILES:
        if file.suffix in (".md", ".py", ".yaml", ".toml") and file.name not in ("CHANGELOG.md", Path(__file__).name):
            for number, line in enumerate(file.read_text().splitlines(), 1):
                found += [f"{file.relative_to(ROOT)}:{number}: {match[0]}" for match in pattern.finditer(line)]
    assert found == []
