"""Checks of who may change administrators, and of what else lets one become them, in a Windows domain."""

from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import DirectoryKind, DomainTrust
from fidelitas.findings import Severity
from fidelitas.rights.directory import DirectoryRights
from fidelitas.rights.directory.objects import is_of_all
from fidelitas.rights.graph.links import Link, Mechanism, Principal, Strength

__all__ = ["CONTROL_CHECKS"]

# Groups that are made to change others, and whose members are listed as holders of that (the last number of their SID).
_MADE_FOR_IT = frozenset({"517", "518", "520", "526", "527", "548", "549", "550", "551"})
_WHOLE_DOMAIN = frozenset({"513", "514", "515"})
_MOST_NAMED = 3


def _steps(rights: DirectoryRights) -> Iterator[Link]:
    """Yield the first links of routes by which someone who is not in an administrative group could get into one; each once."""
    inside = {one.principal for one in rights.holdings if any(_granted(route.links) for route in one.routes)}
    first = (route.links[0] for holding in rights.holdings for route in holding.routes)
    yield from dict.fromkeys(link for link in first if link.mechanism is Mechanism.PERMISSION and link.source not in inside)


def _granted(links: tuple[Link, ...]) -> bool:
    return all(link.mechanism is not Mechanism.PERMISSION for link in links)


def _is_everyone(rights: DirectoryRights, who: Principal) -> bool:
    sid = rights.sid_of(who)
    return is_of_all(sid) or (sid is not None and sid.startswith("S-1-5-21-") and sid.rpartition("-")[2] in _WHOLE_DOMAIN)


def _found(rights: DirectoryRights, *, everyone: bool, sure: bool | None) -> Iterator[Found]:
    by_holder: dict[Principal, list[Link]] = {}
    for link in _steps(rights):
        if _is_everyone(rights, link.source) is everyone and sure in (None, link.strength is not Strength.CONDITIONAL):
            by_holder.setdefault(link.source, []).append(link)
    for who, links in sorted(by_holder.items(), key=lambda one: str(one[0])):
        if (rights.sid_of(who) or "").rpartition("-")[2] in _MADE_FOR_IT:
            continue
        actions = "; ".join(link.because for link in links[:_MOST_NAMED])
        more = f"; and {len(links) - _MOST_NAMED} more" if len(links) > _MOST_NAMED else ""
        places = tuple(dict.fromkeys(link.place for link in links))
        yield Found(about=str(who), message=f"{who} {actions}{more}", places=places, quote=links[0].quote)


@check("directory.control-by-permissions", Severity.HIGH, advice="Remove the permission from the object, or sanction it in the charter.")
def control_by_permissions(rights: DirectoryRights) -> Iterator[Found]:
    """A holder in no administrative group may change what makes administrators.

    Anyone who has its password can become an administrator, and no list of members shows it.
    """
    return _found(rights, everyone=False, sure=True)


@check("directory.control-on-condition", Severity.MEDIUM, advice="Remove the permission from the object, or sanction it in the charter.")
def control_on_condition(rights: DirectoryRights) -> Iterator[Found]:
    """A holder in no administrative group may change what makes administrators, if something else is so.

    What it takes besides is written beside each route (fidelitas why).
    """
    return _found(rights, everyone=False, sure=False)


@check("directory.control-by-everyone", Severity.CRITICAL, advice="Remove the permission from the object; give it to the few who need it.")
def control_by_everyone(rights: DirectoryRights) -> Iterator[Found]:
    """Every account of the domain may change what makes administrators.

    Any stolen password gives control of the domain.
    """
    return _found(rights, everyone=True, sure=None)


@check("directory.machine-password-readers", Severity.MEDIUM, advice="Let only those read it who administer the machine.")
def machine_password_readers(rights: DirectoryRights) -> Iterator[Found]:
    """A holder in no administrative group may read passwords of local administrators that the directory keeps.

    With one it administers the machine, and others on which the password is the same.
    """
    inside = {one.principal for one in rights.holdings if any(_granted(route.links) for route in one.routes)}
    by_reader: dict[Principal, list[Link]] = {}
    for link in rights.password_readers():
        if link.source not in inside:
            by_reader.setdefault(link.source, []).append(link)
    for who, links in sorted(by_reader.items(), key=lambda one: str(one[0])):
        count = len(links)
        message = f"{who} may read the passwords of local administrators of {count} machine{'s' * (count != 1)}"
        severity = Severity.CRITICAL if _is_everyone(rights, who) else None
        yield Found(
            about=str(who), message=message, places=tuple(link.place for link in links[:1]), quote=links[0].quote, severity=severity
        )


@check("directory.former-sid", Severity.HIGH, advice="Remove the former SID (sIDHistory) from the account.")
def former_sid(rights: DirectoryRights) -> Iterator[Found]:
    """An account has among its former SIDs one of an administrative group or of this domain.

    It has all that the other SID has, and no list of members shows it.
    """
    for account in rights.facts.accounts:
        for sid in account.sid_history:
            domain, _, number = sid.rpartition("-")
            if number in ("500", "512", "518", "519") or domain in rights.domain_sids or sid.startswith("S-1-5-32-"):
                name = rights.node(account).name
                message = f"{name} has {sid} among its former SIDs"
                yield Found(about=name, message=message, places=(account.place,), quote=sid)


@check("directory.password-not-required", Severity.MEDIUM, advice="Clear the flag, and set a password.")
def password_not_required(rights: DirectoryRights) -> Iterator[Found]:
    """An account may have an empty password.

    The rules for passwords of the domain do not hold for it.
    """
    for account in rights.facts.accounts:
        if account.password_not_required and not account.disabled and account.kind is DirectoryKind.PERSON:
            name = rights.node(account).name
            yield Found(about=name, message=f"{name} needs no password by its flags", places=(account.place,))


@check("directory.person-as-service", Severity.LOW, advice="Use a managed service account, or a long random password.")
def person_as_service(rights: DirectoryRights) -> Iterator[Found]:
    """An ordinary account has a service name.

    Anyone can request a service ticket, which is encrypted with the account's password, and guess the password offline.
    """
    inside = {one.principal.name for one in rights.holdings}
    for account in rights.facts.accounts:
        name = rights.node(account).name
        if (
            account.service_names
            and account.kind is DirectoryKind.PERSON
            and not account.disabled
            and name not in inside
            and account.rid != "502"
        ):
            yield Found(about=name, message=f"{name} is the account of service {account.service_names[0]}", places=(account.place,))


@check("directory.trust-without-filter", Severity.MEDIUM, advice="Switch on the filtering of SIDs for the trust.")
def trust_without_filter(rights: DirectoryRights) -> Iterator[Found]:
    """Another domain is trusted without its SIDs being filtered.

    Anyone who administers that domain can give its accounts any SID of this one, those of administrators too.
    """
    for trust in rights.facts.control.trusts:
        if trust.outbound and not trust.within_forest and not trust.filters_sids:
            yield Found(about=trust.name, message=f"domain {trust.name} is trusted, and its SIDs are not filtered", places=(trust.place,))


@check("directory.trusted-domain", Severity.INFO, advice="Remove the trust if nobody needs it.")
def trusted_domain(rights: DirectoryRights) -> Iterator[Found]:
    """Another domain is trusted, or trusts this one.

    Accounts of a trusted domain can hold rights here; who they are is in that domain's evidence.
    """
    for trust in rights.facts.control.trusts:
        yield Found(about=trust.name, message=f"trust with {trust.name}: {_terms(trust)}", places=(trust.place,))


def _terms(trust: DomainTrust) -> str:
    """Return in which directions a trust goes, how far, and whether SIDs are filtered."""
    here, there = "its accounts can be used here", "accounts of this domain can be used there"
    ways = " and ".join([*([here] if trust.outbound else []), *([there] if trust.inbound else [])]) or "in no direction"
    if trust.within_forest:
        return f"{ways}; within the forest"
    scope = "all domains of its forest" if trust.of_forest else "that domain alone"
    return f"{ways}; {scope}, SIDs are {'' if trust.filters_sids else 'not '}filtered"


CONTROL_CHECKS: tuple[Check[DirectoryRights], ...] = (
    control_by_permissions,
    control_on_condition,
    control_by_everyone,
    machine_password_readers,
    former_sid,
    password_not_required,
    person_as_service,
    trust_without_filter,
    trusted_domain,
)
