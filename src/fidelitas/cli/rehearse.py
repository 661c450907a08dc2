"""``fidelitas rehearse``."""

from pathlib import Path

import click

from fidelitas.audit import rights_in
from fidelitas.cli.options import Output, Source, bundle_of_root, format_option, say, source_options
from fidelitas.rehearsal import rehearse
from fidelitas.reports.rehearsal import error_block, rehearsal_blocks, rehearsal_document
from fidelitas.sources import POLICY, from_policy_file
from fidelitas.text import decode


@click.command
@click.option("--policy", required=True, type=click.Path(dir_okay=False, path_type=Path), metavar="NEW", help="The new main policy file.")
@click.option("--on", "subject", metavar="SUBJECT", help="Only on this subject; on every one of the ledger if left out.")
@click.option("--root", type=click.Path(file_okay=False, path_type=Path), metavar="DIR", help="On the host whose root folder is DIR.")
@source_options
@format_option
def command(policy: Path, subject: str | None, root: Path | None, source: Source, output: Output) -> None:
    """Tell what a new sudo policy would change, before it is put in place: errors, and who gains and loses which rights.

    NEW takes the place of the main policy; what it includes is the host's own.  A loud warning tells when nobody who can log in would
    be left who can become root.

    Exit status: 0 no errors; 1 somebody would be locked out; 4 the new policy has errors.
    """
    bundles = source.bundles(subject) if root is None else [bundle_of_root(root)]
    changed = [from_policy_file(policy, bundle) for bundle in bundles]
    rehearsals = [rehearse(rights_in(old), rights_in(new)) for old, new in zip(bundles, changed, strict=True)]
    names = {POLICY: str(policy)}
    errors = dict.fromkeys((error, error.place.path) for one in rehearsals for error in one.errors)
    if output.form == "json":
        output.json(rehearsal_document(rehearsals, names))
    else:
        texts = {path: content for bundle in changed for path, content in bundle.files.items()}
        shown = [error_block(error, decode(texts[path]) if path in texts else None, names.get(path, path)) for error, path in errors]
        output.blocks([*shown, *rehearsal_blocks(rehearsals)])
    if errors:
        say(f"the new policy has {len(errors)} errors; sudo would use what is left of it")
        raise SystemExit(4)
    if any(one.locked_out for one in rehearsals):
        raise SystemExit(1)
