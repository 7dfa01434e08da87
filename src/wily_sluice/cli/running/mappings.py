"""`sluice mappings`."""

from typing import Any

import click

from wily_sluice.cli.options import json_option
from wily_sluice.cli.running.usage import Address
from wily_sluice.control.client import Client
from wily_sluice.plan.file.traffic_words import parse_service_port
from wily_sluice.views.live.gate import mappings_table
from wily_sluice.views.text.console import console, print_json


class HostPort(click.ParamType[tuple[int, int]]):
    """A port with its transport, as a protocol's number and the port."""

    name = "port"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> tuple[int, int]:
        """Parse one."""
        try:
            ((protocol, (first, last)),) = parse_service_port(str(value))
        except ValueError:
            first, last, protocol = 0, 1, 0
        if first != last:
            self.fail(f"“{value}” is not one port with its transport: write it like 3000/udp", param, ctx)
        return protocol, first


@click.command()
@click.option("--revoke", type=Address(), metavar="HOST", help="Close the mappings of this host, for an hour at least.")
@click.option("--port", type=HostPort(), metavar="PORT", help="Only this port of the host: 3000/udp.")
@json_option
def mappings(revoke: str | None, port: tuple[int, int] | None, as_json: bool) -> None:
    """List the mappings of hosts, or close some.

    Hosts request mappings by PCP (RFC 6887) or NAT-PMP (RFC 6886), and `mappings:` in the plan says which to grant.
    --revoke closes mappings at once and ends their conversations. The host and its device get no new ones until they
    would have ended, for an hour at least, or until the plan changes.

    \b
    Examples:
      sudo sluice mappings
      sudo sluice mappings --revoke 10.61.0.40
      sudo sluice mappings --revoke 10.61.0.40 --port 3000/udp
    """
    if port is not None and revoke is None:
        raise click.UsageError("--port needs --revoke HOST")
    with Client(watching=revoke is None) as client:
        if revoke is not None:
            about: dict[str, Any] = {"host": revoke}
            if port is not None:
                about |= {"protocol": port[0], "port": port[1]}
            answer = client.call("mappings.revoke", **about)
        else:
            answer = client.call("mappings.list")
    if as_json:
        print_json(answer)
    elif revoke is not None:
        count = answer["ended"]
        click.echo(f"closed {count} {'mapping' if count == 1 else 'mappings'} of {revoke}")
    elif not answer["granted"]:
        click.echo("the plan grants no mappings: see `mappings:` in docs/plan-file.md")
    elif not answer["mappings"]:
        click.echo("no port is open")
    else:
        console().print(mappings_table(answer["mappings"]))
    if revoke is None and not as_json and answer["refused"]:
        click.echo(f"refused: {answer['refused']} (the log says whom, and why)")
