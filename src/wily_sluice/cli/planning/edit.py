"""`sluice edit`: changes a plan file from the command line, and leaves all else in it as it is."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from wily_sluice.cli.options import json_option, names_in_plan, plan_from
from wily_sluice.cli.planning.editing import STEPS, change, change_all, show_edit, text_of
from wily_sluice.plan.edit.references import IN_ORDER, LIST_KEY
from wily_sluice.plan.file.words import suggestion

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from wily_sluice.plan.model import Plan

Command = TypeVar("Command", bound=Callable[..., Any])

KINDS = {  # of parts: an article with the word, and examples of values that fit the demo's plan
    "uplink": (
        "an uplink",
        "cable interface=wan2 tree=spare down='90 Mbit/s' up='18 Mbit/s'",
        "interface=wan3 headroom=10%",
    ),
    "network": (
        "a network",
        "workshop interface=lan50 subnets='[10.61.50.0/24]'",
        "interface=lan51 subnets='[10.61.51.0/24]'",
    ),
    "host": ("a host, by its addresses", "tablet 10.61.40.30", "'addresses=[10.61.40.31, 10.61.40.32]'"),
    "group": ("a group", "printers 10.61.0.60-10.61.0.63", "'except=[10.61.0.61]'"),
    "schedule": ("a schedule", "nights 22:00-06:00", "'windows=[23:00-05:00]'"),
    "queue": ("a queue", "work/printing guarantee=5% cap=20% --tree main", "guarantee=10% cap="),
    "limiter": (
        "a limiter",
        "phone-each local=handsets per=host down='6 Mbit/s'",
        "down='4 Mbit/s' when=opening-hours",
    ),
    "rule": ("a rule", "Printing local=scanner queue=rest", "queue=desk mark=AF11"),
    "service": ("a service", "league ports='[41100-41120/udp]'", "shape=interactive"),
    "tunnel": ("a tunnel", "office interface=vpn0 uplink=fibre wrapping=vxlan", "interface=vpn1 remote=203.0.113.21"),
    "route": ("a route", "Backups local=backup-box uplink=mobile", "else=fibre"),
    "mapping": ("a mapping", "Consoles local=console port=3000-3099", "count=4 lifetime='1 h'"),
}


class Parts(click.Group):
    """The kinds of parts, by name; an unknown one is refused with a suggestion."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """The kind, and the edit."""
        if args and args[0] not in self.commands and not args[0].startswith("-"):
            meant = suggestion(args[0], list(self.commands))
            ctx.fail(f"there is no kind of part “{args[0]}”: {meant or 'see sluice edit --help'}")
        return super().resolve_command(ctx, args)


@click.group(cls=Parts)
def edit() -> None:
    """Change a plan from the command line.

    Comments, order and formatting stay. Before it writes the file, `edit` checks the plan and shows the difference.

    \b
    Examples:
      sluice edit limiter set visitor-each down='4 Mbit/s'
      sluice edit rule move Handsets --before 'Night backup'
      sluice edit group rename handsets phones
      sluice edit undo
    """


def _names(kind: str) -> Callable[[Plan], list[str]]:
    def names(plan: Plan) -> list[str]:
        if kind == "queue":
            return [queue.path for tree in plan.trees.values() for queue in tree.walk()]
        parts: dict[str, Any] = {
            "uplink": [uplink.name for uplink in plan.uplinks],
            "network": [network.name for network in plan.networks],
            "limiter": [limiter.name for limiter in plan.limiters],
            "schedule": plan.schedules,
            "service": plan.services,
            "host": plan.named_hosts,
            "rule": [rule.name for rule in plan.rules],
            "tunnel": [tunnel.name for tunnel in plan.tunnels],
            "route": [route.name for route in plan.routes],
            "mapping": [grant.name for grant in plan.grants],
        }
        return list(parts.get(kind, plan.groups))

    return names


def _keys(kind: str) -> Callable[[click.Context, click.Parameter, str], list[CompletionItem]]:
    """Completes `KEY=` with the keys that such a part has, each once on a line."""

    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        from wily_sluice.plan.file.schema import keys_of

        typed = [*(ctx.params.get(param.name or "") or ()), *ctx.args]
        fields = {word.partition("=")[0] for word in typed}
        keys = [f"{key}=" for key in keys_of(kind) if key not in fields]
        return [CompletionItem(key) for key in keys if key.startswith(incomplete)]

    return complete


def _words(kind: str, required: bool = False) -> Callable[[Command], Command]:
    return click.argument("words", metavar="KEY=VALUE...", nargs=-1, required=required, shell_complete=_keys(kind))


def _common(kind: str, name: bool = True) -> Callable[[Command], Command]:
    """The options that all edits have, and the name of an existing part."""

    def decorate(command: Command) -> Command:
        command = json_option(command)
        command = click.option("--force", is_flag=True, help="Edit even if an editor has the file open.")(command)
        command = click.option("--dry-run", is_flag=True, help="Show the difference, and write nothing.")(command)
        command = plan_from(argument=False)(command)
        if kind == "queue":
            command = click.option("--tree", metavar="NAME", help="Only in this tree.")(command)
        if name:
            complete = names_in_plan(_names(kind))
            command = click.argument("name", metavar=kind.upper(), shell_complete=complete)(command)
        return command

    return decorate


def _changes(kind: str, words: tuple[str, ...]) -> dict[str, Any]:
    """`KEY=VALUE …`, each value in YAML; words alone are members or windows."""
    from wily_sluice.plan.file.yaml_text import YamlError, parse

    changes: dict[str, Any] = {}
    alone: list[str] = []
    for word in words:
        key, equals, value = word.partition("=")
        if not equals:
            alone.append(word)
            continue
        try:
            changes[key] = parse(value)[0] if value.strip() else None
        except YamlError:
            raise click.BadParameter(f"the value of {word!r} is not a YAML value") from None
    if alone:
        if kind not in LIST_KEY:
            raise click.BadParameter(f"“{alone[0]}” has no value: write KEY=VALUE")
        changes[LIST_KEY[kind]] = alone
    return changes


def _group(kind: str) -> click.Group:
    article, new, other = KINDS[kind]
    sample = new.split()[0]
    example = f"\n\n\b\nExample:\n  sluice edit {kind}"

    @click.group(kind, help=f"Change {article} of the plan.{example} set {sample} {other}")
    def group() -> None:
        pass

    @group.command("add", help=f"Add {article}.{example} add {new}")
    @click.argument("name", metavar="NAME")
    @_words(kind)
    @_common(kind, name=False)
    def add(name: str, words: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        changes = _changes(kind, words)
        change(lambda edits: edits.add(kind, name, changes, tree), f"{kind} add {name}", **common)

    @group.command(
        "set",
        help=f"Change keys of {article}; KEY= takes one out.{example} set {sample} {other}",
    )
    @_common(kind)
    @_words(kind, required=True)
    def set_(name: str, words: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        changes = _changes(kind, words)
        change(lambda edits: edits.set(kind, name, changes, tree), f"{kind} set {name}", **common)

    @group.command(
        "remove",
        help=f"Remove {article}, unless something still needs it.{example} remove {sample}",
    )
    @_common(kind)
    def remove(name: str, tree: str | None = None, **common: Any) -> None:
        change(lambda edits: edits.remove(kind, name, tree), f"{kind} remove {name}", **common)

    @group.command(
        "rename",
        help=f"Rename {article}, wherever it is named.{example} rename {sample} other",
    )
    @_common(kind)
    @click.argument("new", metavar="NEW")
    def rename(name: str, new: str, tree: str | None = None, **common: Any) -> None:
        change(lambda edits: edits.rename(kind, name, new, tree), f"{kind} rename {name} {new}", **common)

    @group.command(
        "copy",
        help=f"Copy {article} under another name, with other values.{example} copy {sample} other {other}",
    )
    @_common(kind)
    @click.argument("new", metavar="NEW")
    @_words(kind)
    def copy(name: str, new: str, words: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        changes = _changes(kind, words)
        change(lambda edits: edits.copy(kind, name, new, changes, tree), f"{kind} copy {name} {new}", **common)

    if kind in (*IN_ORDER, "limiter"):
        _add_switches(group, kind, sample)
    if kind in LIST_KEY:
        _add_members(group, kind, sample)
    if kind == "queue":
        _add_split(group)
    if kind in IN_ORDER:
        _add_moves(group, kind)
    return group


MEMBERS = {
    "host": ("addresses", "10.61.40.32"),
    "group": ("members", "10.61.0.64"),
    "schedule": ("windows", "'sun 10:00-12:00'"),
}


def _add_members(group: click.Group, kind: str, sample: str) -> None:
    members, member = MEMBERS[kind]
    for word, what, verb in (("join", "to", "Add"), ("leave", "from", "Remove")):

        @group.command(
            word,
            help=f"{verb} {members} {what} {KINDS[kind][0].partition(',')[0]}.\n\n\b\nExample:\n"
            f"  sluice edit {kind} {word} {sample} {member}",
        )
        @_common(kind)
        @click.argument("members", metavar="MEMBER...", nargs=-1, required=True)
        def change_members(name: str, members: tuple[str, ...], word: str = word, **common: Any) -> None:
            change(lambda edits: getattr(edits, word)(kind, name, list(members)), f"{kind} {word} {name}", **common)


def _add_split(group: click.Group) -> None:
    @group.command("split")
    @_common("queue")
    @click.argument("into", metavar="CHILD...", nargs=-1, required=True)
    def split(name: str, into: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        """Divide a leaf into children.

        Rules of the leaf then use the first child; direct other rules to the others.

        \b
        Examples:
          sluice edit queue split rest pages others
          sluice edit together 'queue split rest pages others' 'rule add Pages service=web queue=rest/pages'
        """
        change(lambda edits: edits.split(name, list(into), tree), f"queue split {name}", **common)


def _add_switches(group: click.Group, kind: str, sample: str) -> None:
    for word, on in (("on", True), ("off", False)):

        @group.command(
            word, help=f"Switch {KINDS[kind][0]} {word}.\n\n\b\nExample:\n  sluice edit {kind} {word} {sample}"
        )
        @_common(kind)
        def switch(name: str, on: bool = on, word: str = word, **common: Any) -> None:
            change(lambda edits: edits.switch(kind, name, on), f"{kind} {word} {name}", **common)


def _place(before: str | None, after: str | None, to: int | None) -> tuple[str, str] | None:
    changes = [
        (word, str(what)) for word, what in (("before", before), ("after", after), ("to", to)) if what is not None
    ]
    if len(changes) > 1:
        raise click.UsageError("give one of --before, --after and --to")
    return changes[0] if changes else None


def _placing(kind: str) -> Callable[[Command], Command]:
    def decorate(command: Command) -> Command:
        complete = names_in_plan(_names(kind))
        word, to = kind.upper(), click.IntRange(min=1)
        command = click.option("--to", metavar="N", type=to, help=f"To be {kind} N.")(command)
        for where in ("after", "before"):
            option = click.option(
                f"--{where}", metavar=word, shell_complete=complete, help=f"Right {where} this {kind}."
            )
            command = option(command)
        return command

    return decorate


PLACES = {"rule": "after Handsets", "route": "before Everything", "mapping": "before 1"}


def _add_moves(group: click.Group, kind: str) -> None:
    article, new, _ = KINDS[kind]
    sample, example = new.split()[0], f"\n\n\b\nExamples:\n  sluice edit {kind}"

    @group.command(
        "add",
        help=f"Add {article}, at the end by default.{example} add {new}\n  sluice edit {kind} add {new} --to 1",
    )
    @click.argument("name", metavar="NAME")
    @_words(kind, required=True)
    @_placing(kind)
    @_common(kind, name=False)
    def add(
        name: str, words: tuple[str, ...], before: str | None, after: str | None, to: int | None, **common: Any
    ) -> None:
        changes, where = _changes(kind, words), _place(before, after, to)
        change(lambda edits: edits.insert(kind, name, changes, where), f"{kind} add {name}", **common)

    @group.command(
        "move",
        help=f"Move {article}: the first that matches decides.{example} move {sample} --to 1\n"
        f"  sluice edit {kind} move {sample} --{PLACES[kind]}",
    )
    @_common(kind)
    @_placing(kind)
    def move(name: str, before: str | None, after: str | None, to: int | None, **common: Any) -> None:
        where = _place(before, after, to)
        if where is None:
            raise click.UsageError("say where, with --before, --after or --to")
        change(lambda edits: edits.move(kind, name, where), f"{kind} move {name}", **common)


for _kind in KINDS:
    edit.add_command(_group(_kind))


WHOLE = {
    "site": ("the name and the time zone of the site", "name='Heron Cottage' timezone=Europe/Dublin"),
    "gate": ("the gate's settings", "keep-contacts='7 days'"),
    "nat": ("which ports address translation keeps", "keep-ports='[console]'"),
}


def _whole(section: str) -> click.Command:
    about, example = WHOLE[section]

    @click.command(
        section, help=f"Change {about}; KEY= takes a key out.\n\n\b\nExample:\n  sluice edit {section} {example}"
    )
    @_common(section, name=False)
    @_words(section, required=True)
    def command(words: tuple[str, ...], **common: Any) -> None:
        changes = _changes(section, words)
        change(lambda edits: edits.whole(section, changes), f"{section} {' '.join(words)}", **common)

    return command


for _section in WHOLE:
    edit.add_command(_whole(_section))


@edit.command()
@click.argument("steps", metavar="STEP...", nargs=-1, required=True)
@_common("", name=False)
@click.pass_context
def together(
    context: click.Context, steps: tuple[str, ...], plan_file: Path, dry_run: bool, force: bool, as_json: bool
) -> None:
    """Make several edits as one.

    Each STEP is an edit in quotes, without `sluice edit`. Only the final plan needs to be free of errors. `edit undo`
    undoes all steps at once.

    \b
    Example:
      sluice edit together 'service add league ports=41100/udp' 'rule add League service=league queue=play'
    """
    import shlex

    makes: list[Any] = []
    context.meta[STEPS] = makes
    try:
        for step in steps:
            try:
                words = shlex.split(step)
            except ValueError as error:
                raise click.BadParameter(f"{step!r}: {error}", param_hint="STEP") from None
            if not words or words[0] in ("undo", "together"):
                raise click.BadParameter(f"“{step}” is not an edit", param_hint="STEP")
            edit.main(words, prog_name="sluice edit", standalone_mode=False, parent=context)
    finally:
        del context.meta[STEPS]
    change_all(makes, f"together: {len(steps)} steps", plan_file, dry_run, force, as_json)


@edit.command()
@click.argument("count", metavar="[N]", type=click.IntRange(min=1), default=1)
@plan_from(argument=False)
@click.option("--force", is_flag=True, help="Undo even if an editor has the file open.")
@json_option
def undo(count: int, plan_file: Path, force: bool, as_json: bool) -> None:
    """Undo the last edit, or the last N.

    Edits stay undoable until another program changes the file.

    \b
    Examples:
      sluice edit undo
      sluice edit undo 3
    """
    from wily_sluice.outside.plan_edits import CannotEditError, held

    with held(plan_file, force) as file:
        before = text_of(file.content, plan_file)
        done, left = 0, ""
        for done in range(1, count + 1):
            try:
                file.undo()
            except CannotEditError:
                if done == 1:
                    raise
                done, left = done - 1, "; nothing else to undo"
                break
        after = text_of(file.content, plan_file)
    show_edit(plan_file, before, after, [], f"{done} edit{'s' * (done > 1)} undone{left}", as_json)
