"""Links and routes in words.  The same words everywhere: a route read in a table is recognised in `why`."""

from fidelitas.rights import Holding, Link, LinkKind, Login, Principal, PrincipalKind, Route, ServerRights, SubjectRights

__all__ = ["brief", "holder", "kind_of", "link_clause"]


def link_clause(link: Link) -> str:
    """Return "P → Q: because", the whole link in one line."""
    return f"{link.source} → {link.target}: {link.because}"


def brief(route: Route) -> str:
    """Return the course of a route in a few words, such as "%sudo → sudo"."""
    return " → ".join(_brief_link(link) for link in route.links)


def _brief_link(link: Link) -> str:
    onward = holder(link.target) if isinstance(link.target, Principal) else ""
    if link.kind is LinkKind.HAS and isinstance(link.target, Principal):
        return link.way if link.target.kind is PrincipalKind.KEY else onward
    return f"{link.way} as {onward}" if onward else link.way


def holder(principal: Principal) -> str:
    """Return a holder as it is shown in a row: of a key its comment and the beginning of its fingerprint."""
    if principal.kind is not PrincipalKind.KEY:
        return str(principal)
    fingerprint, _, comment = principal.name.partition(" ")
    return f"key {comment.strip('()')} {fingerprint[7:15]}…" if comment else f"key {fingerprint[7:15]}…"


# What is added to an account's kind where it does not simply log in with a password.
_LOGIN = {
    Login.PASSWORD: "",
    Login.FREELY: ", empty password",
    Login.NO_PASSWORD: ", keys?",
    Login.KEY: ", key",
    Login.NEITHER: ", no log-in",
    Login.REFUSED: ", no shell",
    Login.EXPIRED: ", expired",
    Login.UNKNOWN: ", log-in?",
}


def kind_of(holding: Holding, rights: SubjectRights) -> str:
    """Return what the holder is, and for an account whether it can log in: "person", "service, no shell", "group of 4"."""
    if isinstance(rights, ServerRights):
        return rights.describe(holding.principal)
    identity = rights.identity(holding.principal)
    if identity is not None:
        return identity.kind.value + _LOGIN[identity.login]
    if holding.principal.kind is PrincipalKind.GROUP:
        return f"group of {len(rights.population.members(holding.principal.name))}"
    if holding.principal.kind is PrincipalKind.ANY_ACCOUNT:
        return f"all {len(rights.population.effective)}"
    if holding.principal.kind is PrincipalKind.ELSEWHERE:
        return "elsewhere"
    return "secret"
