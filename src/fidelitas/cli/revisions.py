"""``fidelitas revisions``."""

from collections.abc import Iterator, Sequence
from pathlib import Path

import click

from fidelitas.cli.complete import subjects
from fidelitas.cli.names import unknown_subject
from fidelitas.cli.output import Output, format_option
from fidelitas.cli.progress import progress, watched
from fidelitas.cli.source import Source, source_options
from fidelitas.errors import RequestError
from fidelitas.estate import DEFAULT_POLICY_FILES, PolicySource
from fidelitas.evidence import Bundle
from fidelitas.reports.revisions import RevisionHistory, revisions_report
from fidelitas.revisions import FAMILIES, Commit, Repository, StandingKind, commits_of, gather, standings_of
from fidelitas.revisions.rights import rights_changed
from fidelitas.sources.estate_file import estate_at
from fidelitas.sources.git_repository import read_repository


@click.command
@click.option("--of", "family", type=click.Choice(list(FAMILIES)), default="sudo", show_default=True, help="Of which policy.")
@click.option("--on", "names", multiple=True, shell_complete=subjects, metavar="SUBJECT", help="Only on this host; repeatable.")
@click.option("--diff", is_flag=True, help="With the text of what each revision changed.")
@click.option(
    "--estate", "estate_file", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE",
    help="The file of the estate, whose [policy] names the repository and what is intended.",
)  # fmt: skip
@click.option(
    "--repository", type=click.Path(file_okay=False, path_type=Path), metavar="FOLDER",
    help="The git repository of the policy: sudoers and sudoers.d/ in it.",
)  # fmt: skip
@source_options
@format_option
def command(
    family: str,
    names: tuple[str, ...],
    estate_file: Path | None,
    repository: Path | None,
    source: Source,
    output: Output,
    *,
    diff: bool,
) -> None:
    """Show every revision of a policy that the surveys have seen: when, on which hosts, and what it changed in rights.

    With the repository of the policy also: which commit a revision is, by whom and why; and which hosts are at the intended commit, behind
    it, or were edited locally.

    Exit status: 1 where a host is not at the commit that is intended for it.
    """
    kept = _policy_source(estate_file, repository)
    history = history_of(family, source, names, kept)
    output.report(revisions_report(history, diff=diff))
    if any(one.kind not in (StandingKind.INTENDED, StandingKind.UNINTENDED) for one in history.standings.values()):
        raise SystemExit(1)


def _policy_source(estate_file: Path | None, repository: Path | None) -> PolicySource | None:
    if repository is not None:
        return PolicySource(repository=repository, files=DEFAULT_POLICY_FILES, intended={})
    found = None if estate_file is None else estate_at(estate_file).policy
    if estate_file is not None and found is None:
        raise RequestError(f'estate "{estate_file}" names no repository', hint="Write [policy] with repository = FOLDER.")
    return found


def history_of(family: str, source: Source, names: Sequence[str], kept: PolicySource | None) -> RevisionHistory:
    """Return the revisions of a policy on some hosts, or all; with a repository also their commits and how hosts stand to it."""
    tags = source.tags_of()
    for name in names:
        if name not in tags:
            raise unknown_subject(name, list(tags))
    with progress("reading") as report:
        history = watched(_history(source, names), report, lambda one: one[0], len(names) or len(tags))
        revisions = gather(family, history)
    if not revisions:
        raise RequestError(f"no host has a {FAMILIES[family][0]} in evidence", hint="Only Linux hosts have policies in files.")
    rights = {one.number: rights_changed(one) for one in revisions if one.step is not None}
    repository = None if kept is None else _repository(kept)
    commits = {} if repository is None else commits_of(revisions, repository)
    return RevisionHistory(
        FAMILIES[family][0], revisions, rights, commits, {} if repository is None else standings_of(revisions, repository, tags)
    )


def _history(source: Source, names: Sequence[str]) -> Iterator[tuple[str, list[Bundle]]]:
    for subject, bundles in source.all_history(set(names) or None):
        yield subject, [one for one in bundles if one.platform == "linux"]


def _repository(kept: PolicySource) -> Repository:
    wanted = sorted(set(kept.intended.values()))
    found, by_name = read_repository(kept.repository, kept.files, wanted)
    commits = [Commit(one.id, one.author, one.at, one.comment, one.files) for one in found]
    return Repository(commits, list(kept.files), {tag: by_name[name] for tag, name in kept.intended.items()})
