"""What a host takes from a directory besides accounts and groups: sudo rules, where its nsswitch.conf(5) says so.

sudo asks one source after the other, and what a later one says counts, as a later line of a file does (sudoers.ldap(5)).  What a directory
in evidence tells is no gap any more.
"""

from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from fidelitas.facts import Account, Directory, DirectoryGroup, FileKind, Gap, Group, HostFacts, SudoPolicy, joined_policies
from fidelitas.rights.accounts.delivery import Here, Names, addresses_of, given_by_server, given_by_sssd

__all__ = ["DIRECTORY_SOURCES", "with_directory"]

# Sources of nsswitch.conf(5) that are a directory.
DIRECTORY_SOURCES = frozenset({"sss", "ldap", "winbind"})
# Databases that a directory in evidence answers for; passwords it tells nobody.
_ANSWERED = ("passwd", "group")


def with_directory(facts: HostFacts, directory: Directory) -> HostFacts:
    """Return the facts of a host with what it takes from a directory."""
    asked = {service.database: service.sources for service in facts.name_services}
    order = [source for source in asked.get("sudoers", ()) if source == "files" or source in DIRECTORY_SOURCES]
    takes_rules = directory.policy is not None and bool(DIRECTORY_SOURCES & set(order))
    answered = {*_ANSWERED, *(("sudoers",) if takes_rules else ())}
    gaps = tuple(gap for gap in facts.gaps if not _is_answered(gap, answered))
    if facts.netgroups is None and directory.netgroups and _asks_alone(facts, asked.get("netgroup", ())):
        facts = replace(facts, netgroups=directory.netgroups)
    if not takes_rules or directory.policy is None:
        return replace(facts, gaps=gaps)
    given = _as_given(facts, directory, directory.policy) if "sss" in order else _as_found(facts, directory, directory.policy)
    policy = _in_order(order, facts.policy, given)
    return replace(facts, policy=policy, gaps=(*gaps, *directory.policy.gaps))


def _as_given(facts: HostFacts, directory: Directory, policy: SudoPolicy) -> SudoPolicy:
    """Return the rules of a directory as sssd gives them to sudo, where the host's files say how it looks for them."""
    search = directory.rule_search
    if search is None:
        return policy
    name = facts.host_name or facts.subject
    here = Here(
        hosts=Names((name, name.partition(".")[0]), exact=search.exact_hosts),
        addresses=None if facts.addresses is None else addresses_of(facts.addresses),
        accounts=_names(facts.accounts, directory.accounts, exact=search.exact),
        groups=_names(facts.groups, directory.groups, exact=search.exact),
        wildcards=search.wildcards,
    )
    return given_by_sssd(policy, here)


def _as_found(facts: HostFacts, directory: Directory, policy: SudoPolicy) -> SudoPolicy:
    """Return the rules of a directory as sudo finds them there itself."""
    accounts = _names(facts.accounts, directory.accounts, exact=True)
    return given_by_server(policy, accounts, _names(facts.groups, directory.groups, exact=True))


def _names(*some: Sequence[Account | Group | DirectoryGroup], exact: bool) -> Names:
    return Names([one.name for every in some for one in every], exact=exact)


def _asks_alone(facts: HostFacts, sources: Sequence[str]) -> bool:
    """Return whether the directory alone answers for netgroups: a file may be named beside it where there is none."""
    state = facts.states.get("/etc/netgroup")
    no_file = state is None or state.kind is FileKind.ABSENT
    return bool(DIRECTORY_SOURCES & set(sources)) and set(sources) <= DIRECTORY_SOURCES | ({"files"} if no_file else set())


def _is_answered(gap: Gap, answered: set[str]) -> bool:
    """Return whether a gap is about a source that the directory in evidence answers for."""
    return gap.source is not None and gap.source[0] in answered and gap.source[1] in DIRECTORY_SOURCES


def _in_order(order: Sequence[str], own: SudoPolicy, shared: SudoPolicy) -> SudoPolicy:
    """Return both policies as one, in the order in which they are asked; each counts once."""
    joined = joined_policies(list(_each(order, own, shared)))
    return replace(joined, files=own.files, gaps=own.gaps, visudo_refusals=(), known=True)  # the files are what lies on the host itself


def _each(order: Sequence[str], own: SudoPolicy, shared: SudoPolicy) -> Iterator[SudoPolicy]:
    kinds = dict.fromkeys("files" if source == "files" else "directory" for source in order)
    return (own if kind == "files" else shared for kind in kinds)
