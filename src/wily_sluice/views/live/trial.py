"""Results on a rig compared with the forecast."""

from rich.console import Console
from rich.table import Table

from wily_sluice.rig.trial import CallResult, CallTrial
from wily_sluice.units import MILLISECOND, Rate, format_rate, format_share

WAYS = {"up": "↑", "down": "↓"}


def print_trial(console: Console, trial: CallTrial, uploads: Rate, limited: Rate) -> None:
    """`uploads` and `limited` are the goodput in bit/s that the forecast gives to all uploads and to a limited host."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="bold")
    for heading in ("", "without the gate", "with the gate", "forecast"):
        table.add_column(heading, justify="left" if not heading else "right", no_wrap=True)
    for way in ("up", "down"):
        for percent in (50, 99):
            before, after = (_delay(call, way, percent) for call in (trial.call_before, trial.call_after))
            table.add_row(f"call {WAYS[way]} p{percent}", before, after, "–")
    losses = (format_share(round(call.loss, 4)) for call in (trial.call_before, trial.call_after))
    table.add_row("call, packets lost", *losses, "–")
    table.add_row(
        "8 uploads, goodput", format_rate(trial.uploads_before), format_rate(trial.uploads_after), format_rate(uploads)
    )
    for address, goodput in trial.limited.items():
        table.add_row(f"phone {address}, goodput", "–", format_rate(goodput), format_rate(limited))
    console.print(table)


def _delay(call: CallResult, way: str, percent: float) -> str:
    return f"{call.percentile(way, percent) / MILLISECOND:.1f} ms"
