"""Results of the lab: the same rows before and after, side by side."""

from collections.abc import Iterator
from dataclasses import asdict
from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from wily_sluice.forecast.lab.flows import Outcome
from wily_sluice.forecast.lab.kinds.registry import Judgement
from wily_sluice.forecast.lab.marks import CallMark, call_mark
from wily_sluice.forecast.lab.meter import Measured
from wily_sluice.forecast.lab.notes import Crowded, HeldBack, Note, Outranked, Unreached
from wily_sluice.forecast.lab.run import Comparison
from wily_sluice.units import MILLISECOND, SECOND, format_byte_rate, format_rate
from wily_sluice.views.text.console import records_csv

NARROW = 126  # columns; below this, only the figures that matter most
LONG = SECOND  # of a silence that is told
WELL = ("very good", "good")
MARKED = 0.1  # a smaller change is not highlighted

# Heading, how a figure is scaled to it, and whether more is better.
FIGURES: dict[str, tuple[str, float, bool]] = {
    "goodput": ("Mbit/s", 1e6, True),
    "p50": ("p50 ms", MILLISECOND, False),
    "p95": ("p95 ms", MILLISECOND, False),
    "p99": ("p99 ms", MILLISECOND, False),
    "jitter": ("jitter ms", MILLISECOND, False),
    "loss": ("loss %", 0.01, False),
}
FEW = ("goodput", "p99", "loss")
KINDS = {HeldBack: "held-back", Crowded: "crowded", Outranked: "outranked", Unreached: "unreached"}
WAYS = {"up": "↑", "down": "↓", "there and back": "↕"}


def _figure(measured: Measured, name: str) -> float | None:
    value: float | None = getattr(measured, name)
    return None if value is None else value / FIGURES[name][1]


def _text(value: float | None) -> str:
    """Three significant figures, without an exponent."""
    if value is None:
        return "–"
    if value >= 99.95:
        return f"{value:.0f}"
    return f"{value:.1f}" if value >= 9.995 else f"{value:.2f}" if value >= 0.0995 or value == 0 else f"{value:.3f}"


def _style(before: float | None, after: float | None, more_is_better: bool) -> str:
    if before is None or after is None or abs(after - before) <= MARKED * max(before, after):
        return ""
    return "green" if (after > before) == more_is_better else "yellow"


def lab_table(comparison: Comparison, width: int) -> Table:
    """One row for each application and direction, and uplink, if there are several; each figure before and after."""
    marked = width >= NARROW and any(_mark(row) or row.judgement for row in comparison.after)
    names = list(FEW) if width < NARROW else [name for name in FIGURES if name != "jitter" or not marked]
    caption = "goodput in Mbit/s; one-way delay, ↕ round trip; queue: where the plan sorts it"
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="bold", caption=caption, caption_justify="left")
    table.add_column("application", no_wrap=True)
    table.add_column("", no_wrap=True)
    several = len({row.uplink for row in comparison.after}) > 1
    if several:
        table.add_column("\nuplink", no_wrap=True, style="dim")
    table.add_column("\nqueue", no_wrap=True, style="dim")
    for name in names:
        table.add_column(f"{FIGURES[name][0]}\nbefore", justify="right", no_wrap=True, style="dim")
        table.add_column("\nafter", justify="right", no_wrap=True)
    if marked:
        table.add_column("verdict\nbefore", justify="right", no_wrap=True, style="dim")
        table.add_column("\nafter", justify="right", no_wrap=True)
    for before, after in zip(comparison.before, comparison.after, strict=True):
        cells = []
        for name in names:
            figures = _figure(before.measured, name), _figure(after.measured, name)
            if name == "goodput" and after.kind == "ping":
                figures = None, None
            cells += [Text(_text(figures[0])), Text(_text(figures[1]), _style(*figures, FIGURES[name][2]))]
        if marked:
            (then, was), (now, has) = _marked(before), _marked(after)
            cells += [Text(then), Text(now, _style(was, has, True))]
        where = (after.uplink, after.queue) if several else (after.queue,)
        table.add_row(after.name, WAYS[after.way], *where, *cells)
    return table


def print_lab(console: Console, comparison: Comparison) -> None:
    """The table, with explanations."""
    console.print(lab_table(comparison, console.width))
    console.print()
    for sentence in lab_sentences(comparison):
        console.print(sentence)


def _mbit(rate: float) -> str:
    return _text(rate / 1e6)


def lab_sentences(comparison: Comparison) -> list[str]:
    """What became of the calls, and of the line."""
    sentences = []
    for before, after in zip(comparison.before, comparison.after, strict=True):
        late, soon = before.measured.p99, after.measured.p99
        if after.kind == "call" and late is not None and soon is not None:
            times = f", {late / soon:.0f} times as long" if late >= 1.5 * soon else ""
            sentences.append(
                f"{after.name} {WAYS[after.way]}: 99% of packets arrive within {soon / MILLISECOND:.1f} ms; "
                f"without the plan within {late / MILLISECOND:.0f} ms{times}."
            )
    sentences += _speech_sentences(comparison)
    for before, after in zip(comparison.before, comparison.after, strict=True):
        if after.judgement is not None:
            alone = "nothing" if before.judgement is None else _judged(before.judgement)
            sentences.append(f"{after.name} {WAYS[after.way]}: {_judged(after.judgement)}; without the plan {alone}.")
    sentences += _evening_sentences(comparison)
    for silent in comparison.silences:
        if max(silent.before, silent.after) >= LONG:
            sentences.append(
                f"{silent.name} {WAYS[silent.way]}: silent for up to {silent.after / SECOND:.1f} s; "
                f"without the plan for up to {silent.before / SECOND:.1f} s."
            )
    sentences += [_note_words(note, comparison) for note in comparison.notes]
    for uplink in comparison.unseen:
        sentences.append(
            f"{uplink}: the gate does not notice that it fails, since its link stays up and it has no `probe`."
        )
    for uplink, totals in comparison.totals.items():
        for direction, total in totals.items():
            if total.after.carried:
                now, then = total.after, total.before
                sentences.append(
                    f"{uplink} {WAYS[direction]}: {_mbit(now.carried)} of {_mbit(total.usable)} usable Mbit/s carried, "
                    f"{_mbit(now.goodput)} ({format_byte_rate(now.goodput)}) goodput; without the plan "
                    f"{_mbit(then.carried)} and {_mbit(then.goodput)} ({format_byte_rate(then.goodput)})."
                )
    return sentences


def _mark(row: Outcome) -> CallMark | None:
    return call_mark(row.measured.delays, row.measured.loss) if row.kind == "call" else None


def _marked(row: Outcome) -> tuple[str, float | None]:
    """What the table says of how an application went, and a score to compare."""
    if row.judgement is not None:
        return row.judgement.word or row.judgement.figure, row.judgement.score
    mark = _mark(row)
    return ("–", None) if mark is None else (mark.word, mark.mos)


def _word(row: Outcome) -> str:
    """How it went; empty where nobody can tell."""
    mark = _mark(row)
    return row.judgement.word if row.judgement is not None else mark.word if mark is not None else ""


def _evening_sentences(comparison: Comparison) -> Iterator[str]:
    """All that was judged, in one sentence."""
    rows = [(_word(now), _word(then)) for now, then in zip(comparison.after, comparison.before, strict=True)]
    rows = [pair for pair in rows if pair[0]]
    if len(rows) > 2:
        now, then = (sum(pair[side] in WELL for pair in rows) for side in (0, 1))
        yield f"Of {len(rows)} that are judged, {now} go well; without the plan {then}."


def _judged(judgement: Judgement) -> str:
    return judgement.words + (f" ({judgement.word})" if judgement.word else "")


def _speech_sentences(comparison: Comparison) -> list[str]:
    """The mark of the worst call, of both directions."""
    runs = (comparison.after, comparison.before)
    now, then = ([mark for row in rows if (mark := _mark(row)) is not None] for rows in runs)
    if not now or not then:
        return []
    worst, before = (min(marks, key=lambda mark: mark.r) for marks in (now, then))
    words = f"Calls: {worst.word} at worst (MOS {worst.mos:.1f} of 4.5)"
    return [f"{words}; without the plan {before.word} ({before.mos:.1f})."]


def _note_words(note: Note, comparison: Comparison) -> str:
    if isinstance(note, HeldBack):
        total = comparison.totals[note.uplink][note.way]
        carried = f"{_mbit(total.after.carried)} of {_mbit(total.usable)} Mbit/s"
        where = f"{note.uplink} {WAYS[note.way]} carries {carried}"
        return f"{where}: held back by acknowledgements that wait in {note.queue}."
    if isinstance(note, Outranked):
        return (
            f"{note.name} {WAYS[note.way]} gets {_mbit(note.rate)} Mbit/s in {note.queue}, while {note.other} gets "
            f"{_mbit(note.other_rate)} in {note.other_queue}, which goes first."
        )
    if isinstance(note, Crowded):
        rates = f"{_text(note.rate / 1e6)} of the {_text(note.guarantee / 1e6)} Mbit/s of {note.queue}"
        why = "its connections are too many for so low a rate"
        return f"{note.name} {WAYS[note.way]} gets {rates} and loses {note.loss:.0%}: {why}."
    return (
        f"{note.name} {WAYS[note.way]}: limiter {note.limiter} ({format_rate(note.rate)}) is never reached, as "
        f"{note.tighter} ({format_rate(note.tighter_rate)}) holds it first."
    )


def _row_data(row: Outcome, delays: bool) -> dict[str, Any]:
    data = asdict(row)
    measured = data.pop("measured")
    judgement = data.pop("judgement")
    if judgement is not None:
        judgement = {"word": judgement["word"], **{name: round(v, 4) for name, v in judgement["figures"].items()}}
    del data["place"]
    mark = _mark(row)
    return data | {
        "goodput": round(measured["goodput"]),
        **{name: None if measured[name] is None else round(measured[name]) for name in ("p50", "p95", "p99", "jitter")},
        "loss": round(measured["loss"], 6),
        "sent": measured["sent"],
        "acks": measured["acks"],
        "r": None if mark is None else round(mark.r, 1),
        "mos": None if mark is None else round(mark.mos, 2),
        "judgement": judgement,
        **({"delays": measured["delays"], "rates": [round(rate) for rate in measured["rates"]]} if delays else {}),
    }


def lab_csv(comparison: Comparison) -> str:
    """A row for each application, direction and uplink, without the plan and with it, as CSV."""
    runs = {"before": comparison.before, "after": comparison.after}
    return records_csv({"run": run, **_row_data(row, delays=False)} for run, rows in runs.items() for row in rows)


def lab_data(comparison: Comparison, delays: bool = True) -> dict[str, Any]:
    """For JSON: goodput in bit/s, delays, jitter and silences in nanoseconds, loss as a fraction of 1. With `delays`,
    also a sample of individual delays, and the goodput over time.
    """
    return {
        "before": [_row_data(row, delays) for row in comparison.before],
        "after": [_row_data(row, delays) for row in comparison.after],
        "totals": {
            uplink: {direction: asdict(total) for direction, total in totals.items()}
            for uplink, totals in comparison.totals.items()
        },
        "silences": [asdict(silent) for silent in comparison.silences],
        "unseen": list(comparison.unseen),
        "notes": [{"kind": KINDS[type(note)], **asdict(note)} for note in comparison.notes],
    }
