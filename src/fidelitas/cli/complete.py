"""What the shell offers after a word has been begun: names that are in the ledger."""

from collections.abc import Callable, Iterable

import click
from click.shell_completion import CompletionItem

from fidelitas.errors import FidelitasError

__all__ = ["accounts", "checks", "subjects", "surveys"]

Completion = Callable[[click.Context, click.Parameter, str], list[CompletionItem]]
# Accounts are found by judging what holds them; for more subjects than that a shell would wait too long.
_MOST_SUBJECTS = 40


def _offering(names: Callable[[str, str | None], Iterable[str]]) -> Completion:
    """Return what completes a word by names from the ledger that the command line so far asks; an error offers nothing."""

    def complete(ctx: click.Context, _: click.Parameter, begun: str) -> list[CompletionItem]:
        from fidelitas.cli.source import default_ledger  # noqa: PLC0415 what other completions do without
        from fidelitas.configuration import read_settings  # noqa: PLC0415

        try:
            setting = read_settings().get("ledger")
            named = ctx.params.get("ledger") or (setting and str(setting.value))
            found = names(named or default_ledger(), ctx.params.get("subject"))
            return [CompletionItem(name) for name in sorted({*found}) if name.startswith(begun)]
        except (FidelitasError, OSError):
            return []

    return complete


def _subjects(ledger: str, _: str | None) -> Iterable[str]:
    from fidelitas.ledger import Ledger  # noqa: PLC0415

    return Ledger(ledger).newest().names


def _surveys(ledger: str, _: str | None) -> Iterable[str]:
    from fidelitas.ledger import Ledger  # noqa: PLC0415

    return Ledger(ledger).names()


def _accounts(ledger: str, subject: str | None) -> Iterable[str]:
    from fidelitas.audit import audit  # noqa: PLC0415
    from fidelitas.ledger import Ledger  # noqa: PLC0415
    from fidelitas.rights import known_names  # noqa: PLC0415

    stored = Ledger(ledger).newest()
    if subject not in stored.names and len(stored.names) > _MOST_SUBJECTS:
        return ()
    found = audit(stored, [subject] if subject is not None and subject in stored.names else None, findings=False)
    return known_names(found.subjects)


def _checks(_: str, __: str | None) -> Iterable[str]:
    from fidelitas.platforms import check_names  # noqa: PLC0415

    return check_names()


subjects = _offering(_subjects)
surveys = _offering(_surveys)
accounts = _offering(_accounts)
checks = _offering(_checks)
