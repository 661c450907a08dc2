"""Groups within groups: who of a directory is in which group, at any depth and by which ways.

A directory is worked out once for all hosts that use it: its accounts are the same everywhere, and so are the links that lead into its
groups.  Cycles are allowed, as directories allow them.
"""

from collections.abc import Callable, Iterator, KeysView, Mapping, Sequence
from functools import cached_property
from hashlib import blake2b

from fidelitas.facts import ON_THE_WAY, Account, Directory, DirectoryGroup, Group, Password, PasswordState, Place
from fidelitas.rights.accounts.identity import AccountKind, Identity, Login, Membership
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Strength, bare_name, sought
from fidelitas.rights.graph.paths import Memberships
from fidelitas.rights.graph.walks import distances, reached, reached_along

__all__ = ["Nesting"]

# Ways into one group that are kept for an account: one for each group that the account is in itself.
_MOST_WAYS = 8


# By the kind and the name of an account or group: the links of those who may change it, and its names in the directory.
Over = Callable[[PrincipalKind, str], tuple[Link, ...]]
Named = Callable[[PrincipalKind, str], tuple[str, ...]]


class Nesting:
    """The memberships of a directory, nested ones included."""

    def __init__(self, directory: Directory) -> None:
        self.directory = directory
        self.over: Over | None = None  # who may change an account or group of it, where the directory says so
        self.named: Named | None = None  # what it is called in the directory, where that is known
        # Of two of one name the first counts, and they stay in their order: of two of one number the first is the one that it stands for.
        self._accounts = dict(reversed({account.name: account for account in reversed(directory.accounts)}.items()))
        self._by_name = dict(reversed({group.name: group for group in reversed(directory.groups)}.items()))
        self._ways: dict[tuple[str, str], tuple[tuple[Link, ...], ...]] = {}
        self._nodes: dict[tuple[PrincipalKind, str], Principal] = {}
        self._links: dict[tuple[PrincipalKind, str, str], Link] = {}
        self._names_by_gid: dict[int, frozenset[str]] = {}
        self._towards: dict[str, Mapping[str, int]] = {}
        self._around: dict[str, list[str]] = {}

    @cached_property
    def groups(self) -> Mapping[str, Group]:
        """The groups, as a host that uses the directory has them, by name."""
        return {name: _as_group(group) for name, group in self._by_name.items()}

    @cached_property
    def identities(self) -> Mapping[str, Identity]:
        """The accounts, as a host that uses the directory has them, by name; with all their groups, the nearest first."""
        return dict(self.singly)

    @cached_property
    def singly(self) -> Mapping[str, Identity]:
        """The same, each made when it is first asked for: few hold anything on a host, which a question about it is answered by."""
        memberships = {name: Membership(group=group, primary=False, place=group.place, nested=True) for name, group in self.groups.items()}

        def made(name: str) -> Identity:
            account = self._accounts[name]
            groups = self._reached(account)
            return _identity(account, tuple(map(memberships.__getitem__, groups)), barred=name in self.directory.barred)

        return _Made(self._accounts.keys(), made)

    @cached_property
    def places(self) -> Mapping[str, int]:
        """The place of each account among `identities`, by its name: what is one of for each account is kept in that order."""
        return {name: place for place, name in enumerate(self._accounts)}

    @cached_property
    def comments(self) -> Mapping[str, str]:
        """What is noted of each account."""
        return {name: account.comment for name, account in self._accounts.items()}

    @cached_property
    def names_digest(self) -> bytes:
        """A digest of the names of the accounts in their order."""
        return blake2b("\0".join(self._accounts).encode("utf-8", "surrogateescape"), digest_size=16).digest()

    @cached_property
    def _accounts_by_gid(self) -> Mapping[int, list[Identity]]:
        found: dict[int, list[Identity]] = {}
        for who in self.identities.values():
            for gid in who.gids:
                found.setdefault(gid, []).append(who)
        return found

    @cached_property
    def _by_uid(self) -> Mapping[int, list[Identity]]:
        found: dict[int, list[Identity]] = {}
        for who in self.identities.values():
            if who.uid is not None:
                found.setdefault(who.uid, []).append(who)
        return found

    @cached_property
    def _by_folded_name(self) -> Mapping[str, list[Identity]]:
        found: dict[str, list[Identity]] = {}
        for who in self.identities.values():
            found.setdefault(who.name.lower(), []).append(who)
        return found

    @cached_property
    def _gids_by_folded_name(self) -> Mapping[str, list[int]]:
        found: dict[str, list[int]] = {}
        for group in self.groups.values():
            if group.gid > ON_THE_WAY:
                found.setdefault(group.name.lower(), []).append(group.gid)
        return found

    @cached_property
    def first_of_uid(self) -> Mapping[int, Identity]:
        """The first account of each user ID."""
        return {uid: found[0] for uid, found in self._by_uid.items()}

    @cached_property
    def folded_group_names(self) -> frozenset[str]:
        """The names of the groups, in small letters."""
        return frozenset(name.lower() for name in self._by_name)

    def members_called(self, group: str) -> Sequence[Identity]:
        """Return the accounts that are in a group at any depth, by its name."""
        return self._members_by_name.get(group, ())

    @cached_property
    def _members_by_name(self) -> Mapping[str, list[Identity]]:
        found: dict[str, list[Identity]] = {}
        for who in self.identities.values():
            for name in dict.fromkeys(one.group.name for one in who.memberships):
                found.setdefault(name, []).append(who)
        return found

    def of_uid(self, uid: int) -> Sequence[Identity]:
        """Return the accounts with a user ID."""
        return self._by_uid.get(uid, ())

    def called(self, folded: str) -> Sequence[Identity]:
        """Return the accounts of a name in small letters, whatever the case of theirs."""
        return self._by_folded_name.get(folded, ())

    def gids_called(self, folded: str) -> Sequence[int]:
        """Return the IDs of the groups of a name in small letters, whatever the case of theirs."""
        return self._gids_by_folded_name.get(folded, ())

    def accounts_in(self, gid: int) -> Sequence[Identity]:
        """Return the accounts that are in a group at any depth."""
        return self._accounts_by_gid.get(gid, ())

    def names_in(self, gid: int) -> frozenset[str]:
        """Return the names of those accounts."""
        if gid not in self._names_by_gid:
            self._names_by_gid[gid] = frozenset(who.name for who in self.accounts_in(gid))
        return self._names_by_gid[gid]

    def groups_around(self, group: str) -> list[str]:
        """Return the groups that a group is in, at any depth."""
        if group not in self._around:
            self._around[group] = reached_along(self._outer.get(group, ()), self._outer)
        return self._around[group]

    def groups_within(self, group: str) -> list[str]:
        """Return the groups that are in a group, at any depth."""
        return reached(self._inner(group), self._inner)

    def outer_links(self, group: str) -> Iterator[Link]:
        """Yield the links from a group to those that it is in, and from those on, each once."""
        for inner in dict.fromkeys((group, *self.groups_around(group))):
            for outer, place in self._above.get((True, inner), {}).items():
                yield self._link(PrincipalKind.GROUP, inner, outer, place)

    def ways(self, name: str, group: str) -> tuple[tuple[Link, ...], ...]:
        """Return the chains of links by which an account is in a group: of each group that it is in itself, the shortest on."""
        known = self._ways.get((name, group))
        if known is None:
            known = self._ways[name, group] = tuple(self._found(self._accounts[name], group))[:_MOST_WAYS]
        return known

    def node(self, kind: PrincipalKind, name: str) -> Principal:
        """Return the principal that an account or a group of the directory is: the same on every host."""
        known = self._nodes.get((kind, name))
        if known is None:
            stated = self._accounts.get(name) if kind is PrincipalKind.ACCOUNT else self._by_name.get(name)
            subject = stated.place.subject if stated is not None else self.directory.subject
            known = self._nodes[kind, name] = Principal(kind=kind, name=name, subject=subject, aliases=self._further_names(kind, name))
        return known

    def meant_by(self, holder: str, *, alike: bool = True) -> Sequence[str]:
        """Return the accounts, and the groups as ``%name``, that a name can mean: as hosts write it, or as the directory does.

        Where it means none, those `alike`, which differ from it in the case of letters alone.
        """
        return self._labels.get(sought(holder)) or (self._labels_alike.get(holder.casefold(), ()) if alike else ())

    @cached_property
    def _labels_alike(self) -> Mapping[str, Sequence[str]]:
        found: dict[str, dict[str, None]] = {}
        for name, labels in self._labels.items():
            found.setdefault(name.casefold(), {}).update(dict.fromkeys(labels))
        return {name: tuple(labels) for name, labels in found.items()}

    def taken_from(self, subject: str, holder: str) -> list[str]:
        """Return the accounts that a name means and that come from one of the directories."""
        found = (name for name in self.meant_by(holder) if not name.startswith("%"))
        return [name for name in found if self._accounts[name].place.subject == subject]

    @cached_property
    def _labels(self) -> Mapping[str, Sequence[str]]:
        found: dict[str, dict[str, None]] = {}
        for kind, names in ((PrincipalKind.ACCOUNT, self._accounts), (PrincipalKind.GROUP, self._by_name)):
            for name in names:
                label = f"%{name}" if kind is PrincipalKind.GROUP else name
                for form in (label, *self._further_names(kind, name)):
                    found.setdefault(sought(form), {})[label] = None
        return {form: tuple(labels) for form, labels in found.items()}

    def _further_names(self, kind: PrincipalKind, name: str) -> tuple[str, ...]:
        label = f"%{name}" if kind is PrincipalKind.GROUP else name
        names = (bare_name(label), *(self.named(kind, name) if self.named is not None else ()))
        return tuple(one for one in dict.fromkeys(names) if one != label)

    # -- the graph ---------------------------------------------------------------------------------------------------------------

    @cached_property
    def _above(self) -> Mapping[tuple[bool, str], dict[str, Place]]:
        """The groups that an account or a group is in itself, each with the place that says so."""
        above: dict[tuple[bool, str], dict[str, Place]] = {}
        for group in self._by_name.values():
            for member in group.members:
                above.setdefault((member.is_group, member.name), {}).setdefault(group.name, member.place)
        return above

    @cached_property
    def _outer(self) -> Mapping[str, Mapping[str, Place]]:
        """The groups that each group is in itself."""
        return {name: groups for (is_group, name), groups in self._above.items() if is_group}

    @cached_property
    def _primary(self) -> Mapping[int, str]:
        return {group.gid: group.name for group in reversed(self.directory.groups)}

    def _own(self, account: Account) -> dict[str, Place]:
        own = dict(self._above.get((False, account.name), {}))
        primary = self._primary.get(account.gid)
        if primary is not None:
            own.setdefault(primary, account.place)
        return own

    def _reached(self, account: Account) -> list[str]:
        own = self._own(account)
        leading = own if self.directory.primary_leads_on else self._above.get((False, account.name), {})
        return list(dict.fromkeys((*own, *reached_along(leading, self._outer))))

    def _distances(self, group: str) -> Mapping[str, int]:
        """Return how many groups lie between each group and this one."""
        if group not in self._towards:
            self._towards[group] = distances(group, self._inner)
        return self._towards[group]

    def _inner(self, group: str) -> Iterator[str]:
        return (member.name for member in self._by_name[group].members if member.is_group and member.name in self._by_name)

    def _found(self, account: Account, group: str) -> Iterator[tuple[Link, ...]]:
        away = self._distances(group)
        listed = self._above.get((False, account.name), {})
        leading = {name for name in self._own(account) if name == group or name in listed or self.directory.primary_leads_on}
        own = [(away[name], name, place) for name, place in self._own(account).items() if name in away and name in leading]
        for _, first, place in sorted(own):
            chain, inner = [self._link(PrincipalKind.ACCOUNT, account.name, first, place)], first
            while inner != group:
                nearer = ((outer, at) for outer, at in self._above[True, inner].items() if away.get(outer) == away[inner] - 1)
                outer, at = min(nearer)
                chain.append(self._link(PrincipalKind.GROUP, inner, outer, at))
                inner = outer
            yield Memberships(chain)

    def _link(self, kind: PrincipalKind, name: str, group: str, place: Place) -> Link:
        if (kind, name, group) not in self._links:
            self._links[kind, name, group] = Link(
                source=self.node(kind, name),
                target=self.node(PrincipalKind.GROUP, group),
                kind=LinkKind.HAS,
                strength=Strength.DIRECT,
                by=By(Mechanism.MEMBERSHIP),
                because=f"is in group {group}" if kind is PrincipalKind.ACCOUNT else f"group {name} is in group {group}",
                place=place,
            )
        return self._links[kind, name, group]


class _Made(Mapping[str, Identity]):
    """Accounts by name, each made when it is first asked for."""

    def __init__(self, names: KeysView[str], made: Callable[[str], Identity]) -> None:
        self._names, self._made = names, made
        self._known: dict[str, Identity] = {}

    def __getitem__(self, name: str) -> Identity:
        known = self._known.get(name)
        if known is None:
            known = self._known[name] = self._made(name)
        return known

    def __contains__(self, name: object) -> bool:
        return name in self._names

    def __iter__(self) -> Iterator[str]:
        return iter(self._names)

    def __len__(self) -> int:
        return len(self._names)


def _identity(account: Account, memberships: tuple[Membership, ...], *, barred: bool) -> Identity:
    return Identity(
        name=account.name,
        uid=account.uid if account.uid >= 0 else None,
        gid=account.gid,
        kind=AccountKind.SERVICE if account.name.partition("@")[0].endswith("$") else AccountKind.PERSON,  # of a machine, or managed
        login=Login.BARRED if barred else Login.UNKNOWN,
        password=None,
        memberships=memberships,
        account=account,
        of_directory=True,
    )


def _as_group(group: DirectoryGroup) -> Group:
    members = tuple(member.name for member in group.members if not member.is_group)
    return Group(name=group.name, password=Password(state=PasswordState.NONE), gid=group.gid, members=members, place=group.place)
