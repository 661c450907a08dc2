"""What a report says of a Windows machine and its accounts."""

from collections.abc import Iterator, Sequence

from fidelitas.facts import LocalAccount, WindowsJobKind
from fidelitas.reports.subjects.directory import directory_kind
from fidelitas.reports.subjects.words import AccountLine, SubjectWords
from fidelitas.rights import Principal, PrincipalKind, WindowsRights

__all__ = ["WORDS"]

_SESSION_KINDS = {
    2: "at the console", 3: "over the network", 4: "as a batch job", 5: "as a service", 7: "at the console", 10: "by remote desktop",
    11: "at the console",
}  # fmt: skip


class _Words(SubjectWords):
    def system(self, rights: WindowsRights) -> str:
        return rights.facts.system.removeprefix("Microsoft ") or "Windows"

    def head(self, rights: WindowsRights) -> Sequence[str]:
        facts = rights.facts
        kinds = [job.kind for job in facts.jobs]
        jobs = f"{kinds.count(WindowsJobKind.SERVICE)} services, {kinds.count(WindowsJobKind.TASK)} tasks"
        by = "" if facts.elevated is not False else ", not as an administrator"
        return (
            f"{facts.system or 'Windows'}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC{by}",
            f"{len(facts.accounts)} accounts, {len(facts.groups)} groups; {jobs}",
        )

    def accounts(self, rights: WindowsRights) -> Iterator[tuple[str, AccountLine]]:
        for name, account in sorted(rights.accounts.items()):
            node = Principal(kind=PrincipalKind.ACCOUNT, name=name, subject=rights.subject)
            groups = tuple((group.removeprefix("%"), None) for group in sorted(rights.belongs_to(name)))
            password = "never expires" if account.password_never_expires else "not required" if account.password_required is False else ""
            number = account.sid.rpartition("-")[2]
            yield name, AccountLine(self.kind(rights, node), number, groups, password, last_login=account.last_logon)

    def kind(self, rights: WindowsRights, principal: Principal) -> str:
        account = rights.accounts.get(principal.name) if principal.subject == rights.subject else None
        if account is not None and principal.kind is PrincipalKind.ACCOUNT:
            return "local account" + (", disabled" if account.disabled else "") + (", locked" if account.locked else "")
        directory = next((one for one in rights.holders.directories if one.subject == principal.subject), None)
        if directory is not None:
            return directory_kind(directory, principal)
        local = any(group.name == principal.name for group in rights.facts.groups)
        return {
            PrincipalKind.GROUP: "local group" if local else "group of a domain",
            PrincipalKind.ANY_ACCOUNT: "any account",
            PrincipalKind.ACCOUNT: "account",
        }.get(principal.kind, "not of this machine")

    def about(self, rights: WindowsRights, name: str) -> Sequence[str]:
        account = rights.accounts.get(name)
        lines = [] if account is None else [_account(self.kind(rights, rights.node(account)), account)]
        for session in rights.facts.sessions:
            if str(rights.session_holder(session)) == name:
                since = f" since {session.since:%Y-%m-%d %H:%M} UTC" if session.since else ""
                lines.append(f"logged on {_SESSION_KINDS.get(session.kind, f'in a session of type {session.kind}')}{since}")
        return lines


def _account(kind: str, account: LocalAccount) -> str:
    seen = f", last logon {account.last_logon:%Y-%m-%d}" if account.last_logon else ""
    return f"{kind}{seen} ({account.sid})"


WORDS = _Words()
