"""What a report says of a directory and its accounts."""

from collections.abc import Sequence

from fidelitas.reports.subjects.words import SubjectWords
from fidelitas.rights import DirectoryRights, Principal, PrincipalKind
from fidelitas.rights.domain import Domain

__all__ = ["WORDS"]


class _Words(SubjectWords):
    def system(self, rights: DirectoryRights) -> str:
        return "directory"

    def head(self, rights: DirectoryRights) -> Sequence[str]:
        facts = rights.facts
        return (
            f"directory; evidence of {rights.taken:%Y-%m-%d %H:%M} UTC",
            f"{len(facts.accounts)} accounts, {len(facts.groups)} groups",
        )

    def kind(self, rights: DirectoryRights, principal: Principal) -> str:
        return directory_kind(rights, principal)

    def about(self, rights: DirectoryRights, name: str) -> Sequence[str]:
        account = rights.accounts.get(name)
        if account is None:
            return ()
        seen = f"last log-on {account.last_logon:%Y-%m-%d}" if account.last_logon else "last log-on not told"
        node = Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=rights.subject)
        return (f"{self.kind(rights, node)}, {seen}", account.dn)


def directory_kind(rights: Domain, principal: Principal) -> str:
    """Return what a holder of a directory is."""
    account = rights.accounts.get(principal.name)
    if principal.kind is PrincipalKind.ACCOUNT and account is None:
        return "of another domain"
    if account is None or principal.kind is not PrincipalKind.ACCOUNT:
        return "group"
    kind = "service" if account.service_names else "account"
    expired = account.expires is not None and account.expires < rights.taken
    return kind + (", disabled" if account.disabled else "") + (", expired" if expired else "")


WORDS = _Words()
