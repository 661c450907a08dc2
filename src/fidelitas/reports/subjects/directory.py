"""What a report says of a directory and its accounts."""

from collections.abc import Iterator, Sequence

from fidelitas.reports.subjects.words import AccountLine, SubjectWords
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

    def accounts(self, rights: DirectoryRights) -> Iterator[tuple[str, AccountLine]]:
        for name, account in sorted(rights.accounts.items()):
            node = Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=rights.subject)
            groups = tuple((group.removeprefix("%"), None) for group in sorted(rights.belongs_to(name)))
            number = "" if account.posix is None else f"{account.posix.uid}:{account.posix.gid}"
            password = "never expires" if account.password_never_expires else ""
            yield name, AccountLine(self.kind(rights, node), number, groups, password, last_login=account.last_logon)

    def about(self, rights: DirectoryRights, name: str) -> Sequence[str]:
        account = rights.accounts.get(name)
        if account is None:
            return ()
        seen = f"last logon {account.last_logon:%Y-%m-%d}" if account.last_logon else "last logon unknown"
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
