"""A plan's trees as a drawing for a page: nested queues, and per direction guarantee and cap as bars of the line."""

from collections.abc import Sequence
from pathlib import Path

from matplotlib import rc_context
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.patches import Patch

from wily_sluice.engine.queueing.spec import QueueSpec
from wily_sluice.forecast.split import split
from wily_sluice.forecast.why import waits
from wily_sluice.plan.model import Plan, Tree, Uplink
from wily_sluice.plan.rates import resolve
from wily_sluice.units import Direction, format_rate
from wily_sluice.views.plan.tree import leaf_words, wait_words

ROW = 0.34  # inches a queue
WIDTH = 13.0  # inches
PRIORITY_COLOURS = ("#7a1f3d", "#a63d40", "#c9743c", "#cf9f3f", "#5d8a66", "#3f7f8c", "#3b6ea5", "#56569c", "#6f6f7a")
CAP_COLOUR, SPLIT_COLOUR, FAINT = "#dfe5ea", "#16212b", "#66727d"
RATES, FAR = 1.10, 1.95  # of a panel whose bars end at 1: where the rates begin, and the waits end
INDENT = 0.035  # of the name column, a level


def draw_trees(plan: Plan, uplinks: Sequence[Uplink], file: Path) -> None:
    """Draw the trees of these uplinks, one below the other, as SVG or PNG by the file's suffix. OSError, ValueError."""
    parts = [(uplink, tree, ways) for uplink in uplinks for tree, ways in plan.trees_of(uplink)]
    rows = [sum(1 for _ in tree.walk()) + 1 for _, tree, _ in parts]
    height = sum(rows) * ROW + len(parts) * 0.95 + 0.9
    with rc_context(
        {"svg.fonttype": "none", "svg.hashsalt": "wily-sluice", "font.family": "DejaVu Sans", "font.size": 9}
    ):
        figure = Figure(figsize=(WIDTH, height), dpi=110, facecolor="white")
        FigureCanvasAgg(figure)
        top = 1 - 0.42 / height
        figure.text(0.012, top, plan.site, fontsize=13, weight="bold", va="center")
        for (uplink, tree, ways), count in zip(parts, rows, strict=True):
            top -= 0.95 / height
            extent = count * ROW / height
            _draw_tree(figure, plan, uplink, tree, ways, (top - extent, extent))
            top -= extent
        _legend(figure, height)
        figure.savefig(file, metadata={"Date": None} if file.suffix == ".svg" else None)


def _draw_tree(
    figure: Figure, plan: Plan, uplink: Uplink, tree: Tree, ways: tuple[Direction, ...], band: tuple[float, float]
) -> None:
    """One tree, in the band of the page from `band[0]` with height `band[1]`, as fractions of the page."""
    bottom, extent = band
    specs = {way: resolve(plan, uplink, way) for way in ways}
    order = list(specs[ways[0]].walk())
    names = _axes(figure, (0.012, bottom, 0.26, extent), len(order))
    names.set_xlim(0, 1)
    names.axis("off")
    queues = {queue.path: queue for queue in tree.walk()}
    title = f"{uplink.name}" + (f" {ways[0]}" if len(ways) == 1 else "") + f": tree {tree.name}, {tree.discipline}"
    names.set_title(title, loc="left", fontsize=10.5, weight="bold", pad=22)
    for row, spec in enumerate(order):
        depth = spec.path.count("/") + 1 if spec.path else 0
        leaf = bool(spec.path) and not spec.children
        label = spec.path.rpartition("/")[2] or "the line"
        names.text(depth * INDENT, row, label, va="center", weight="normal" if leaf else "bold")
        if spec.path:
            queue = queues[spec.path]
            words = leaf_words(queue) if leaf else queue.discipline
            turn = f"priority {spec.priority}, " if spec.priority != 5 else ""
            turn += f"weight {spec.weight:g}, " if spec.weight != 1 else ""
            names.text(0.99, row, turn + words, va="center", ha="right", color=FAINT, fontsize=7.6)
        _lines_to_parent(names, order, row)
    panel = 0.70 / len(ways)
    for number, way in enumerate(ways):
        axes = _axes(figure, (0.29 + number * panel, bottom, panel - 0.015, extent), len(order))
        _bars(axes, specs[way], order, uplink.usable(way))
        arrow = "↓ down" if way == "down" else "↑ up"
        axes.set_title(f"{arrow}, {format_rate(uplink.usable(way))} usable", loc="left", fontsize=9.5, pad=22)


def _axes(figure: Figure, box: tuple[float, float, float, float], rows: int) -> Axes:
    axes = figure.add_axes(box)
    axes.set_ylim(rows - 0.5, -0.5)
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_visible(False)
    return axes


def _lines_to_parent(axes: Axes, order: list[QueueSpec], row: int) -> None:
    """The lines that show a queue's nesting."""
    spec = order[row]
    if not spec.path:
        return
    above = spec.path.rpartition("/")[0]
    parent = next(index for index, other in enumerate(order) if other.path == above)
    depth = spec.path.count("/") + 1
    across = depth * INDENT - 0.022
    axes.plot([across, across, across + 0.014], [parent + 0.35, row, row], color="#9aa4ad", linewidth=0.8)


def _bars(axes: Axes, root: QueueSpec, order: list[QueueSpec], usable: int) -> None:
    """Guarantee and cap of each queue, its rate when all are busy, and the delay of a packet."""
    paths = {spec.path: spec for spec in root.walk()}
    shares, wait = split(root, {}), waits(root)
    axes.set_xlim(0, FAR)
    for row, shown in enumerate(order):
        spec = paths[shown.path]
        colour = PRIORITY_COLOURS[spec.priority - 1] if spec.path else FAINT
        axes.barh(row, spec.cap / usable, height=0.52, color=CAP_COLOUR, linewidth=0)
        axes.barh(row, spec.guarantee / usable, height=0.52, color=colour, alpha=0.95 if not spec.children else 0.45)
        gets = shares[spec.path].rate / usable
        axes.plot([gets, gets], [row - 0.36, row + 0.36], color=SPLIT_COLOUR, linewidth=1.6)
        if spec.path:
            words = format_rate(shares[spec.path].rate)
            axes.text(RATES, row, words, va="center", fontsize=8, weight="normal" if spec.children else "bold")
        if spec.path in wait:
            axes.text(FAR, row, wait_words(wait[spec.path]), va="center", ha="right", fontsize=7.6, color=FAINT)
    axes.set_xticks([0, 0.25, 0.5, 0.75, 1], ["0", "25%", "50%", "75%", "100%"], fontsize=7.5, color=FAINT)
    axes.tick_params(axis="x", length=2, top=True, labeltop=True, bottom=False, labelbottom=False, pad=1)
    axes.text(RATES, -0.72, "gets", fontsize=7.5, color=FAINT, va="bottom")
    axes.text(FAR, -0.72, "delay", fontsize=7.5, color=FAINT, va="bottom", ha="right")
    axes.grid(axis="x", color="#eef1f4", linewidth=0.8)
    axes.set_axisbelow(True)


def _legend(figure: Figure, height: float) -> None:
    handles = [
        Patch(facecolor=PRIORITY_COLOURS[4], label="guarantee (colour: priority)"),
        Patch(facecolor=CAP_COLOUR, label="up to the cap"),
        Patch(facecolor=SPLIT_COLOUR, label="its rate when all leaves are busy"),
    ]
    figure.legend(handles=handles, loc="lower left", bbox_to_anchor=(0.006, 0.06 / height), ncols=3, frameon=False)
    words = "delay: of responsive traffic … of any traffic in a full leaf; a promised delay holds within the guarantee"
    figure.text(0.988, 0.22 / height, words, ha="right", fontsize=7.6, color=FAINT)
