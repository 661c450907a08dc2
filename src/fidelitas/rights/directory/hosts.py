"""What a Unix host takes from a directory: accounts and groups with numbers, the groups between them, and sudo rules."""

from fidelitas.facts import Directory, DirectoryGroup, DirectoryMember, StatedGroup
from fidelitas.rights.directory.objects import Thing
from fidelitas.rights.directory.rights import DirectoryRights

__all__ = ["for_hosts"]


def for_hosts(rights: DirectoryRights) -> Directory:
    """Return what a Unix host takes from a directory."""
    groups = []
    for number, group in enumerate(rights.groups):
        members = tuple(
            DirectoryMember(name=_name(rights, one), is_group=isinstance(one, StatedGroup), place=place)
            for one, place in rights.members(group)
        )
        gid = group.gid if group.gid is not None else -2 - number  # a group without a number is one on the way to others
        groups.append(DirectoryGroup(name=_name(rights, group), gid=gid, members=members, place=group.place))
    accounts = tuple(account.posix for account in rights.facts.accounts if account.posix is not None)
    return Directory(subject=rights.subject, accounts=accounts, groups=tuple(groups), policy=rights.facts.policy)


def _name(rights: DirectoryRights, one: Thing) -> str:
    """Return what a host calls an account or group: as the C library would, where the object has a number; else what tells it apart."""
    posix = getattr(one, "posix", None)
    if posix is not None:
        return str(posix.name)
    return one.name if isinstance(one, StatedGroup) and one.gid is not None else rights.node(one).name
