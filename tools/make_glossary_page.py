"""Makes docs/glossary.md, the words that the program uses: `python -m tools.make_glossary_page`. A test keeps it true."""

from pathlib import Path

from wily_sluice.plan.explain.glossary import GLOSSARY

PAGE = Path(__file__).parents[1] / "docs" / "glossary.md"
HEAD = """\
# Glossary

The words of the program, each for one thing, in keys, options, columns, JSON, metrics, events and messages. The last column has other
words for the same thing. You can ask for them with `sluice explain WORD`, but the program does not use them.

| word | meaning | not |
|---|---|---|
"""


def page() -> str:
    """The whole page."""
    rows = sorted(GLOSSARY, key=lambda term: term.name.lower())
    return HEAD + "".join(f"| {term.name} | {term.text} | {', '.join(term.also)} |\n" for term in rows)


if __name__ == "__main__":
    PAGE.write_text(page())
