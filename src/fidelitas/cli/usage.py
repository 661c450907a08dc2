"""``fidelitas usage``."""

import os
from collections.abc import Sequence
from pathlib import Path

import click

from fidelitas.cli.options import Output, Source, format_option, say, source_options, zone_of
from fidelitas.errors import RequestError
from fidelitas.facts import EventKind
from fidelitas.inquiry import Inquiry
from fidelitas.languages.logs.reading import LogEvents, read_logs
from fidelitas.replay import Replay, replay
from fidelitas.reports.replay import replay_blocks, replay_document, replay_table
from fidelitas.reports.usage import head_block, people_table, usage_blocks, usage_document, usage_table
from fidelitas.sources.logs import logs_at
from fidelitas.usage import Deed, deeds_of, summed_up

_KINDS = {kind.name.lower().replace("_", "-"): kind for kind in EventKind}


@click.command
@click.argument("logs", nargs=-1, type=click.Path(path_type=Path), metavar="[LOG]...")
@click.option("--person", metavar="NAME", help="Only what this person did, or can have done.")
@click.option("--kind", "kinds", multiple=True, type=click.Choice(list(_KINDS)), help="Only events of this kind; can be given again.")
@click.option("--events", is_flag=True, help="List every event instead of a summary.")
@click.option("--against-policy", is_flag=True, help="Hold uses of sudo against the policies in the ledger.")
@source_options
@click.option("--zone", metavar="ZONE", help="Time zone of stamps that tell none, such as Europe/Lisbon.  [default: this machine's]")
@click.option("--name", metavar="NAME", help="Name of the host in places.  [default: this machine's]")
@format_option
def command(
    logs: tuple[Path, ...],
    person: str | None,
    kinds: tuple[str, ...],
    source: Source,
    *,
    against_policy: bool,
    events: bool,
    zone: str | None,
    name: str | None,
    output: Output,
) -> None:
    """Tell who used privilege, was refused or mistyped, and who stood behind root's deeds, from LOG files or folders of them.

    Without LOG those of this machine are read (/var/log).  Rotated and packed files are read in their order; lines of syslog in all its
    forms, sudo's own log file, the audit log, wtmp and btmp, and the journal as journalctl exports it (-o json, -o export).

    With --against-policy: uses that the policy in the ledger would refuse today, refusals that it would allow, and rules that nothing used.
    """
    found = read_logs(logs_at(logs or (Path("/var/log"),)), name or os.uname().nodename, zone_of(zone))
    deeds = list(deeds_of(found.events, person, [_KINDS[one] for one in kinds] or list(EventKind)))
    if against_policy:
        _against(replay((deed.event for deed in deeds), {bundle.subject: Inquiry(bundle) for bundle in source.bundles()}), output)
    else:
        _show(deeds, found, output, events=events)
    for problem in (*found.gaps, *found.unread):
        say(str(problem))
    if found.unknown:
        told = ", ".join(f"{program} {count}" for program, count in found.unknown.most_common())
        say(f"not recognised, and so not counted: {told}")
    if found.unread:
        raise SystemExit(4)


def _show(deeds: Sequence[Deed], found: LogEvents, output: Output, *, events: bool) -> None:
    people = summed_up(deeds)
    if output.form != "table" or events:
        output.table(usage_table(deeds), lambda: usage_document(deeds, people, found.unknown, found.gaps, found.covers))
        return
    output.blocks([head_block(deeds, found.covers)])
    output.table(people_table(people), dict)
    output.text("\n")
    output.blocks(usage_blocks(deeds))


def _against(replays: Sequence[Replay], output: Output) -> None:
    if not replays:
        raise RequestError("the logs hold no use of sudo on a host of the ledger", hint="Survey the host, or name its logs.")
    if output.form == "table":
        output.blocks(replay_blocks(replays, whole=True))
    else:
        output.table(replay_table(replays), lambda: {"schema": "fidelitas/replay/1", "subjects": replay_document(replays)})
