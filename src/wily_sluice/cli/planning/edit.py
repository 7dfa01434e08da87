"""`sluice edit`: changes a plan file from the command line, and leaves all else in it as it is."""

from __future__ import annotations

import gc
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from wily_sluice.cli.options import Refusal, json_option, names_in_plan, plan_from
from wily_sluice.plan.edit.parts import IN_ORDER, LIST_KEY

if TYPE_CHECKING:
    from wily_sluice.plan.edit.edits import Edits
    from wily_sluice.plan.edit.operations import Operation
    from wily_sluice.plan.edit.text import YamlText
    from wily_sluice.plan.findings.finding import Finding
    from wily_sluice.plan.model import Plan

MANY_RULES = 500  # beyond that, an edit looks for errors alone; `sluice check` finds the rest
Command = TypeVar("Command", bound=Callable[..., Any])

KINDS = {  # of parts: an article with the word, and examples of values
    "uplink": ("an uplink", "fibre interface=wan0 down='180 Mbit/s' up='24 Mbit/s'", "headroom=10%"),
    "network": ("a network", "guests interface=lan1 subnets='[192.0.2.0/24]'", "interface=lan2"),
    "host": ("a host, by its addresses", "console 02:00:5e:10:00:07", "'members=[192.0.2.7, 192.0.2.8]'"),
    "group": ("a group", "printers 192.0.2.60-192.0.2.63", "'except=[192.0.2.61]'"),
    "schedule": ("a schedule", "nights 22:00-06:00", "'windows=[23:00-05:00]'"),
    "queue": ("a queue", "work/printing guarantee=5%", "guarantee=10% cap="),
    "limiter": ("a limiter", "guest-each local=guests per=host down='6 Mbit/s'", "down='4 Mbit/s' when=nights"),
    "rule": ("a rule", "Handsets local=handsets queue=calls", "queue=calls mark=EF"),
    "service": ("a service", "league ports='[41100-41120/udp]'", "shape=interactive"),
    "tunnel": ("a tunnel", "office interface=vpn0 uplink=fibre wrapping=vxlan", "remote=203.0.113.21"),
    "route": ("a route", "Backups local=backup-box uplink=mobile", "else=fibre"),
    "opening": ("an opening", "Consoles local=play-room port=3000-3099", "count=4 lifetime='1 h'"),
}


@click.group()
def edit() -> None:
    """Change a plan from the command line.

    Comments, order and formatting stay. The plan is checked before anything is written, and the difference is shown.

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
            "opening": [grant.name for grant in plan.grants],
        }
        return list(parts.get(kind, plan.groups))

    return names


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


def change(
    make: Callable[[Edits], list[Operation]], words: str, plan_file: Path, dry_run: bool, force: bool, as_json: bool
) -> None:
    """Make an edit: check what comes of it, show the difference, and write it."""
    from wily_sluice.outside.plan_edits import held
    from wily_sluice.plan.findings.finding import FileError

    with held(plan_file, force or dry_run) as file:
        before = _text(file.content, plan_file)
        try:
            after, findings = _edited(plan_file, before, make)
        except FileError:
            click.echo(f"{plan_file}: not written, since the plan would have errors:", err=True)
            raise
        if not dry_run:
            file.write(after.encode(), words)
    done = "written; `sluice edit undo` takes it back"
    _show(plan_file, before, after, findings, None if dry_run else done, as_json)


def _text(content: bytes, plan_file: Path) -> str:
    try:
        return content.decode("utf-8")
    except UnicodeDecodeError:
        raise Refusal(f"{plan_file} is not text in UTF-8") from None


def _edited(plan_file: Path, text: str, make: Callable[[Edits], list[Operation]]) -> tuple[str, list[Finding]]:
    """The text after an edit, and the warnings that it brings. FileError with the errors that it would bring."""
    from wily_sluice.plan.edit.edits import Edits
    from wily_sluice.plan.edit.operations import EditError
    from wily_sluice.plan.edit.text import YamlText
    from wily_sluice.plan.file.yaml_text import YamlError
    from wily_sluice.plan.findings.finding import FileError

    gc.disable()  # what is read lives until the end
    try:
        before = YamlText(text)
        after = before.after(make(Edits(before.data)))
    except YamlError as error:
        raise Refusal(f"{plan_file}{f':{error.line}' if error.line else ''}: {error}") from None
    except EditError as error:
        raise Refusal(str(error)) from None
    findings = _findings(plan_file, after)
    if findings:
        known = {(one.code, one.message) for one in _findings(plan_file, YamlText(text))}
        findings = [one for one in findings if (one.code, one.message) not in known]
    if any(one.severity == "error" for one in findings):
        raise FileError(one for one in findings if one.severity == "error")
    return after.text, findings


def _findings(plan_file: Path, text: YamlText) -> list[Finding]:
    """What is found in a plan; of a large one, errors alone, since the rest takes its time."""
    from wily_sluice.outside.plan_edits import TextFile
    from wily_sluice.plan.file.allowances import allowances
    from wily_sluice.plan.file.document import Document
    from wily_sluice.plan.read import examine, examine_document

    raw = text.text.encode()
    source = TextFile(plan_file, raw)
    if not text.data:
        return examine(source)[1]
    rules = text.data.get("rules")
    document = Document(source.name, text.data, text.lines, raw, source, allowances=allowances(text.text))
    return examine_document(document, not isinstance(rules, list) or len(rules) <= MANY_RULES)[1]


def _show(plan_file: Path, before: str, after: str, findings: list[Finding], done: str | None, as_json: bool) -> None:
    from wily_sluice.views.plan.changes import edit_lines, print_diff
    from wily_sluice.views.text.console import console, print_json
    from wily_sluice.views.text.findings import findings_data, print_findings

    lines = edit_lines(before, after)
    if as_json:
        print_json(
            {"file": str(plan_file), "written": done is not None, "diff": lines, "findings": findings_data(findings)}
        )
        return
    screen = console()
    print_diff(screen, lines)
    print_findings(screen, findings)
    click.echo(f"{plan_file}: {done or 'not written'}")


def _group(kind: str) -> click.Group:
    article, new, other = KINDS[kind]
    sample = new.split()[0]
    example = f"\n\n\b\nExample:\n  sluice edit {kind}"

    @click.group(kind, help=f"Change {article} of the plan.{example} set {sample} {other}")
    def group() -> None:
        pass

    @group.command("add", help=f"Add {article}.{example} add {new}")
    @click.argument("name", metavar="NAME")
    @click.argument("words", metavar="KEY=VALUE...", nargs=-1)
    @_common(kind, name=False)
    def add(name: str, words: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        changes = _changes(kind, words)
        change(lambda edits: edits.add(kind, name, changes, tree), f"{kind} add {name}", **common)

    @group.command(
        "set",
        help=f"Change keys of {article}; KEY= takes one out.{example} set {sample} {other}",
    )
    @_common(kind)
    @click.argument("words", metavar="KEY=VALUE...", nargs=-1, required=True)
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
    @click.argument("words", metavar="KEY=VALUE...", nargs=-1)
    def copy(name: str, new: str, words: tuple[str, ...], tree: str | None = None, **common: Any) -> None:
        changes = _changes(kind, words)
        change(lambda edits: edits.copy(kind, name, new, changes, tree), f"{kind} copy {name} {new}", **common)

    if kind in (*IN_ORDER, "limiter"):
        _add_switches(group, kind, sample)
    if kind in IN_ORDER:
        _add_moves(group, kind)
    return group


def _add_switches(group: click.Group, kind: str, sample: str) -> None:
    for word, on in (("on", True), ("off", False)):

        @group.command(
            word, help=f"Switch {KINDS[kind][0]} {word}.\n\n\b\nExample:\n  sluice edit {kind} {word} {sample}"
        )
        @_common(kind)
        def switch(name: str, on: bool = on, word: str = word, **common: Any) -> None:
            change(lambda edits: edits.switch(kind, name, on), f"{kind} {word} {name}", **common)


def _place(before: str | None, after: str | None, to: int | None) -> tuple[str, str] | None:
    said = [(word, str(what)) for word, what in (("before", before), ("after", after), ("to", to)) if what is not None]
    if len(said) > 1:
        raise click.UsageError("give one of --before, --after and --to")
    return said[0] if said else None


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


def _add_moves(group: click.Group, kind: str) -> None:
    article, new, _ = KINDS[kind]
    sample, example = new.split()[0], f"\n\n\b\nExamples:\n  sluice edit {kind}"

    @group.command(
        "add",
        help=f"Add {article}, at the end by default.{example} add {new}\n  sluice edit {kind} add {new} --to 1",
    )
    @click.argument("name", metavar="NAME")
    @click.argument("words", metavar="KEY=VALUE...", nargs=-1, required=True)
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
        f"  sluice edit {kind} move {sample} --after 3",
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


@edit.command()
@click.argument("count", metavar="[N]", type=click.IntRange(min=1), default=1)
@plan_from(argument=False)
@click.option("--force", is_flag=True, help="Undo even if an editor has the file open.")
@json_option
def undo(count: int, plan_file: Path, force: bool, as_json: bool) -> None:
    """Take back the last edit, or the last N.

    Edits are remembered after the program has ended. An edit is not taken back if the file was changed by something
    else since.

    \b
    Examples:
      sluice edit undo
      sluice edit undo 3
    """
    from wily_sluice.outside.plan_edits import CannotEditError, held

    with held(plan_file, force) as file:
        before = _text(file.content, plan_file)
        done, left = 0, ""
        for done in range(1, count + 1):
            try:
                file.undo()
            except CannotEditError:
                if done == 1:
                    raise
                done, left = done - 1, "; no more to undo"
                break
        after = _text(file.content, plan_file)
    _show(plan_file, before, after, [], f"{done} edit{'s' * (done > 1)} undone{left}", as_json)
