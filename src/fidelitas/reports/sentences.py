"""Links and routes in words.  The same words everywhere: a route read in a table is recognised in `why`."""

from fidelitas.rights import Link, LinkKind, Mechanism, Principal, PrincipalKind, Route

__all__ = ["asking", "brief", "holder", "link_clause", "mechanism"]


# A mechanism in a word or two; {} is what it goes by.
_WORDS = {
    Mechanism.USER_ID: "user ID 0",
    Mechanism.MEMBERSHIP: "group",
    Mechanism.LOGIN_MEMBERSHIP: "group",
    Mechanism.HELD_MEMBERSHIP: "group",
    Mechanism.ACCOUNT: "account",
    Mechanism.SUDO: "sudo {}",
    Mechanism.GROUP: "group {}",
    Mechanism.GROUP_ADMINISTRATOR: "group administrator",
    Mechanism.PROGRAM: "{}",
    Mechanism.WRITABLE: "writes {}",
    Mechanism.READABLE: "reads {}",
    Mechanism.SSH_KEY: "ssh",
    Mechanism.PRIVATE_KEY: "private key",
    Mechanism.ROLE: "role {}",
    Mechanism.ADMIN_OPTION: "admin option",
    Mechanism.ATTRIBUTE: "{}",
    Mechanism.PREDEFINED_ROLE: "{}",
    Mechanism.PARAMETER: "parameter {}",
    Mechanism.CREATE_ROLE: "grants itself {}",
    Mechanism.DEFINER: "function {}",
    Mechanism.TRIGGER: "trigger on {}",
    Mechanism.VIEW: "view {}",
    Mechanism.RULE: "rule of {}",
    Mechanism.GRANT: "{}",
    Mechanism.PUBLIC: "PUBLIC",
    Mechanism.PRIVILEGE: "{}",
    Mechanism.ALL_PRIVILEGES: "all privileges",
    Mechanism.PROXY: "proxy for {}",
    Mechanism.GRANT_TABLES: "grant tables",
    Mechanism.ADMIN_GROUP: "{}",
    Mechanism.PERMISSION: "permission",
    Mechanism.SID_HISTORY: "former SID",
    Mechanism.USER_RIGHT: "{}",
    Mechanism.FURTHER: "{} links",
}


def mechanism(link: Link) -> str:
    """Return by what a link leads on, in a word or two."""
    words, name = _WORDS.get(link.mechanism, link.mechanism.value), link.by.name
    return words.format(name) if name and "{}" in words else link.mechanism.value if "{}" in words else words


def link_clause(link: Link) -> str:
    """Return "P → Q: because", the whole link in one line."""
    return f"{link.source} → {link.target}: {link.because}"


def brief(route: Route) -> str:
    """Return the course of a route in a few words, such as "%sudo → sudo"."""
    words = [_brief_link(link) for link in route.links]
    return " → ".join(word for number, word in enumerate(words) if not number or word != words[number - 1])


def _brief_link(link: Link) -> str:
    onward = holder(link.target) if isinstance(link.target, Principal) else ""
    if link.kind is LinkKind.HAS and isinstance(link.target, Principal):
        return mechanism(link) if link.target.kind is PrincipalKind.KEY else onward
    if link.mechanism is Mechanism.ROLE:
        return f"SET ROLE {onward}"
    return f"{mechanism(link)} as {onward}" if onward else mechanism(link)


def holder(principal: Principal) -> str:
    """Return a holder as it is shown in a row: of a key its comment and the beginning of its fingerprint."""
    if principal.kind is not PrincipalKind.KEY:
        return str(principal)
    fingerprint, _, comment = principal.name.partition(" ")
    return f"key {comment.strip('()')} {fingerprint[7:15]}…" if comment else f"key {fingerprint[7:15]}…"


def asking(asks: str | None) -> str:
    """Return whose password a link or a route asks for."""
    return "asks for " + (asks.replace("own password", "the account's own password") if asks else "no password")
