"""What a report says of a Linux host and its accounts."""

from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import date
from typing import Any

from fidelitas.facts import LoginSession, Password
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.places import place_document
from fidelitas.reports.subjects.words import AccountLine, SubjectWords, holding_rows
from fidelitas.rights import AccountKind, AccountWithGroups, Holding, HostRights, Identity, Login, Membership, Principal, PrincipalKind
from fidelitas.rights.linux.groups import conferred
from fidelitas.rights.linux.live import Stale, stale_groups

__all__ = ["WORDS", "held_by_others"]

# What is added to an account's kind where it does not simply log in with a password.
_LOGIN = {
    Login.PASSWORD: "",
    Login.FREELY: ", empty password",
    Login.NO_PASSWORD: ", keys?",
    Login.KEY: ", key",
    Login.NEITHER: ", no login",
    Login.REFUSED: ", no shell",
    Login.EXPIRED: ", expired",
    Login.BARRED: ", refused",
    Login.UNKNOWN: ", login unknown",
}


_NO_ACCOUNTS = frozenset({PrincipalKind.ANY_ACCOUNT, PrincipalKind.KEY, PrincipalKind.PASSWORD})


class _Words(SubjectWords):
    section = "hosts"

    def system(self, rights: HostRights) -> str:
        system = rights.facts.system
        return system.name.replace("GNU/Linux ", "").partition(" (")[0] if system else "Linux"

    def head(self, rights: HostRights) -> Sequence[str]:
        facts = rights.facts
        kinds = [who.kind for who in rights.population.effective]
        people, services = kinds.count(AccountKind.PERSON), kinds.count(AccountKind.SERVICE)
        system = facts.system.name if facts.system else "system not known"
        how = "" if facts.live else ", from a root folder"
        by = "" if facts.taken_by == 0 else f", by user ID {facts.taken_by} and not as root"
        rules = f"{len(facts.policy.rules)} sudo rules" if facts.policy.known else "sudo policy unknown: it could not be read"
        packaged = dict(facts.packages).get("sudo")
        package = f" (package {packaged})" if packaged else ""
        sudo = f"; sudo {facts.sudo_version}{package}" if facts.sudo_version else f"; sudo{package}" if package else ""
        return (
            f"{system}; evidence of {facts.taken:%Y-%m-%d %H:%M} UTC{how}{by}{sudo}",
            f"{len(kinds)} accounts ({people} people, {services} services), {len(facts.groups)} groups, {rules}",
        )

    def kind(self, rights: HostRights, principal: Principal) -> str:
        """Return what the holder is, and for an account whether it can log in: "person", "service, no shell", "group of 4"."""
        account = rights.in_brief(principal)
        if account is not None:
            return account.kind.value + _LOGIN[account.login]
        if principal.kind is PrincipalKind.GROUP:
            return f"group of {rights.member_count(principal.name)}"
        if principal.kind is PrincipalKind.ANY_ACCOUNT:
            return f"all {rights.account_count}"
        return "elsewhere" if principal.kind is PrincipalKind.ELSEWHERE else "secret"

    def accounts(self, rights: HostRights) -> Iterator[tuple[str, AccountLine]]:
        keys = Counter(who.name for who, _ in rights.key_grants)
        day = rights.taken.date()
        for who in sorted(rights.population.effective, key=lambda one: (one.uid is None, one.uid, one.name)):
            groups = tuple((one.group.name, one.group.gid) for one in who.memberships_here)
            changed = who.shadow.last_change if who.shadow else None
            age = f", {(day - date(1970, 1, 1)).days - changed} days old" if changed and who.password and who.password.algorithm else ""
            number = "" if who.uid is None else f"{who.uid}:{who.gid}"
            line = AccountLine(who.kind.value + _LOGIN[who.login], number, groups, _password(who.password) + age, keys[who.name])
            yield who.name, line

    def why(self, rights: HostRights, name: str, held: Sequence[Holding]) -> Sequence[str]:
        accounts = [(label, who) for label in rights.meant_by(name) if (who := rights.with_groups(label)) is not None]
        if accounts:
            return tuple(("" if label == name else f"as {label}: ") + _in_a_line(who) for label, who in accounts)
        there = sorted({holding.principal.subject for holding in held if holding.principal.kind is PrincipalKind.ELSEWHERE})
        return (f"no account of this host; comes from {', '.join(there)}",) if there else ()

    def pages(self, rights: HostRights, name: str) -> list[Block]:
        held = _from_elsewhere(rights, name)
        own = [_page(rights, who, "" if who.name == name else f", as {who.name}") for who in _meant(rights, name)]
        rows = [row for holding in held for row in (Row(f"as {holding.principal}"), *holding_rows(holding))]
        others = [row for holding in held_by_others(rights, name) for row in holding_rows(holding)]
        return [
            *own,
            *([Block(f"{rights.subject}, from another host", tuple(rows))] if held else []),
            *([Block(rights.subject, tuple(others))] if others else []),
        ]

    def documents(self, rights: HostRights, name: str) -> list[dict[str, Any]]:
        return [_document(rights, who) for who in _meant(rights, name)]


def _meant(host: HostRights, name: str) -> Iterator[Identity]:
    """Yield the accounts that a name can mean."""
    return (who for one in host.meant_by(name) if (who := host.account(one)) is not None)


def held_by_others(host: HostRights, name: str) -> list[Holding]:
    """Return what a holder has who is no account: any account, who has a key or knows a password."""
    return [holding for holding in host.holdings_of(name) if holding.principal.kind in _NO_ACCOUNTS]


def _in_a_line(who: AccountWithGroups) -> str:
    brief = who.brief
    return f"{brief.kind.value}, user ID {brief.uid}, login {brief.login.value}, groups {', '.join(who.groups) or 'none'}"


def _from_elsewhere(host: HostRights, name: str) -> list[Holding]:
    meant = host.means(name) if host.from_elsewhere else None
    return [holding for holding in host.from_elsewhere if meant is not None and meant(holding.principal)]


def _page(host: HostRights, who: Identity, named: str) -> Block:
    place = f" ({who.account.place.in_file()})" if who.account else ""
    rows = [
        Row(f"{who.kind.value}, user ID {who.uid}{place}"),
        Row(f"login {who.login.value}; password {_password(who.password)}"),
        *(row for one in who.memberships_here for row in _group(host, one)),
        *(Row(_session(one), label="logged on") for one in host.facts.login_sessions if one.account == who.name),
        *_running(host, who),
        *(Row(_stale(one), label="session", style="bold") for one in _stale_of(host, who)),
    ]
    held = sorted(host.held_by(who.name), key=lambda holding: (holding.right.kind, str(holding.right)))
    rows += [row for holding in held for row in holding_rows(holding)] or [Row("holds no elevated right")]
    return Block(f"{host.subject}{named}", tuple(rows))


def _group(host: HostRights, one: Membership) -> list[Row]:
    """Return a group with what it confers by itself; of the account's own group, and of unknown ones, there is nothing to say."""
    found = conferred(one.group, host.facts.states)
    row = Row(f"{one.group.name}{' (primary)' if one.primary else ''}  {one.place.in_file()}", label="group")
    if found is None:
        return [row]
    verdict = f"confers {found.right}" + (f", {found.condition}" if found.condition else "") if found.right else "gives nothing"
    return [row, Row(f"{verdict}: {found.reason}", indent=8, style="bold" if found.right else "")]


def _session(one: LoginSession) -> str:
    where = f" from {one.host}" if one.host else ""
    return f"{one.terminal}{where} since {one.since:%Y-%m-%d %H:%M} UTC (process {one.pid})"


def _running(host: HostRights, who: Identity) -> list[Row]:
    """Return what the account runs at the moment, a row at most."""
    names = Counter(process.name for process in host.facts.processes or () if who.uid and process.uids[0] == who.uid)
    shown = ", ".join(f"{name} ({count})" if count > 1 else name for name, count in names.most_common(6))
    return [Row(f"{shown}{' and more' if len(names) > 6 else ''}", label="runs")] if names else []


def _stale_of(host: HostRights, who: Identity) -> list[Stale]:
    return [one for one in stale_groups(host.facts, host.population) if one.who.name == who.name]


def _stale(one: Stale) -> str:
    shown = ", ".join(f"{process.pid} ({process.name})" for process in one.processes[:3])
    if one.held:
        return f"group {one.group} was taken away, and is held by {shown}: revoked yet active"
    return f"group {one.group} was given, and no running session holds it: log in again"


def _password(password: Password | None) -> str:
    if password is None:
        return "not read"
    return password.state.value + (f" ({password.algorithm})" if password.algorithm else "")


def _document(host: HostRights, who: Identity) -> dict[str, Any]:
    return {
        "subject": host.subject,
        "account": who.name,
        "uid": who.uid,
        "gid": who.gid,
        "kind": who.kind.value,
        "login": who.login.value,
        "can_log_in": who.login.possible,
        "password": who.password.state.value if who.password else None,
        "place": place_document(who.account.place) if who.account else None,
        "groups": [_group_document(host, one) for one in who.memberships_here],
        "logged_on": [
            {"terminal": one.terminal, "from": one.host or None, "since": one.since.isoformat(), "process": one.pid}
            for one in host.facts.login_sessions
            if one.account == who.name
        ],
        "stale": [
            {
                "group": one.group,
                "state": "revoked yet active" if one.held else "granted, not yet in force",
                "processes": [process.pid for process in one.processes],
            }
            for one in _stale_of(host, who)
        ],
        "holdings": [holding_document(host, holding) for holding in host.held_by(who.name)],
    }


def _group_document(host: HostRights, one: Membership) -> dict[str, Any]:
    found = conferred(one.group, host.facts.states)
    return {
        "name": one.group.name,
        "gid": one.group.gid,
        "primary": one.primary,
        "place": place_document(one.place),
        "confers": (found.right or None) if found else None,
        "reason": found.reason if found else None,
    }


WORDS = _Words()
