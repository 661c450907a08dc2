"""``fidelitas peers``."""

from collections.abc import Sequence
from pathlib import Path

import click

from fidelitas.cli.charter_file import people_option
from fidelitas.cli.gaps import tell_gaps
from fidelitas.cli.names import unknown_name
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.people import read_people
from fidelitas.cli.source import Source, source_options
from fidelitas.extras import installed_extra
from fidelitas.peers import Oddities, Profile, copies, given_on, host_profiles, peer_groups, profiles, role_groups, shared_roles, unusual
from fidelitas.people import MappedPerson
from fidelitas.reports.peers import peers_report


@click.command
@click.argument("names", nargs=-1, metavar="[NAME]...")
@people_option
@click.option("--memberships", is_flag=True, help="Also memberships that give no right.")
@source_options
@format_option
def command(names: tuple[str, ...], mapped: Path | None, source: Source, output: Output, *, memberships: bool) -> None:
    """Show what holders have that few of their peers have, accounts that look copied, and hosts unlike the others of their role.

    Peers are the members of a team of the identity map (--people), else of a department of a directory; others are put together by what
    they have.  Hosts of one role have a tag role=NAME in common.  NAME is a person, or an account: only what is about it.

    Exit status: 1 where something is unusual.
    """
    people: Sequence[MappedPerson] = read_people(mapped) if mapped is not None else ()
    subjects = source.audit().subjects
    tags = source.tags_of()
    known = profiles(subjects, people, shared_roles(tags))
    _refuse_unknown(names, known)
    with installed_extra():
        groups = peer_groups(known, people)
    provenance = source.provenance(subjects) if any(profile.memberships for profile in known) else {}
    found = Oddities(
        groups=groups,
        unusual=unusual(groups, memberships=memberships),
        hosts=unusual(role_groups(host_profiles(subjects), tags)),
        copies=copies(known, groups, given_on(known, provenance)),
    )
    output.report(peers_report(found.about(names, known) if names else found), of=subjects)
    tell_gaps(subjects)
    if found.unusual or found.hosts or found.copies:
        raise SystemExit(1)


def _refuse_unknown(names: Sequence[str], known: Sequence[Profile]) -> None:
    every = {name for profile in known for name in (profile.name, *profile.accounts)}
    for name in names:
        if name not in every:
            raise unknown_name("no person in evidence is called or has the account", name, every)
