"""Who is whose peer: by team or department where that is stated, by the role of hosts, else by how alike what they have is."""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from fidelitas.peers.profiles import Having, Profile
from fidelitas.people import MappedPerson

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["PeerGroup", "distances", "peer_groups", "role_groups", "shared_roles"]

_FEWEST = 3  # below that nobody is unusual: there is nothing to compare with
_MOST_CLUSTERED = 4000  # holders whose distances are worked out: the square of it is held
_CUT = 0.7  # average Jaccard distance up to which holders are peers


class PeerGroup(Struct, frozen=True):
    """Holders that are compared with each other; `declared` says that someone called them a group, and not only their likeness."""

    name: str
    members: tuple[Profile, ...]
    declared: bool


def peer_groups(known: Sequence[Profile], people: Sequence[MappedPerson]) -> list[PeerGroup]:
    """Return groups of peers: teams of the identity map, else departments of a directory, and clusters of those who are in neither."""
    teams = {person.name: person.team for person in people if person.team}
    titles = Counter((profile.department, profile.title) for profile in known if profile.name not in teams)
    by_name: dict[str, list[Profile]] = {}
    rest = []
    for profile in known:
        name = f"team {teams[profile.name]}" if profile.name in teams else _department(profile, titles)
        if name:
            by_name.setdefault(name, []).append(profile)
        else:
            rest.append(profile)
    declared = [PeerGroup(name, tuple(members), declared=True) for name, members in sorted(by_name.items())]
    return [group for group in (*declared, *_clusters(rest)) if len(group.members) >= _FEWEST]


def _department(profile: Profile, titles: Mapping[tuple[str, str], int]) -> str:
    """Return the department of a holder, with the title where enough of the department have the same; nothing where none is stated."""
    if not profile.department:
        return ""
    of_title = profile.title and titles[profile.department, profile.title] >= _FEWEST
    return f"department {profile.department}" + (f", {profile.title}" if of_title else "")


def role_groups(hosts: Sequence[Profile], tags: Mapping[str, Sequence[str]]) -> list[PeerGroup]:
    """Return the subjects that have a role in common, by their tags ``role=…``."""
    by_role: dict[str, list[Profile]] = {}
    for host in hosts:
        for tag in tags.get(host.name, ()):
            if tag.startswith("role="):
                by_role.setdefault(tag, []).append(host)
    groups = (PeerGroup(role, tuple(members), declared=True) for role, members in sorted(by_role.items()))
    return [group for group in groups if len(group.members) >= _FEWEST]


def shared_roles(tags: Mapping[str, Sequence[str]]) -> dict[str, str]:
    """Return the role of each subject that shares one with another: what is held on all hosts of a role counts once."""
    roles = {subject: tag for subject, some in tags.items() for tag in some if tag.startswith("role=")}
    counts = Counter(roles.values())
    return {subject: role for subject, role in roles.items() if counts[role] > 1}


def _clusters(known: Sequence[Profile]) -> list[PeerGroup]:
    """Return holders put together by what they have: average linkage of Jaccard distances, cut at a height."""
    having = [profile for profile in known if profile.has][:_MOST_CLUSTERED]
    if len(having) < _FEWEST:
        return []
    from scipy.cluster.hierarchy import fcluster, linkage  # noqa: PLC0415 most questions need no numerics

    labels = fcluster(linkage(distances(having), "average"), _CUT, "distance")
    members: dict[int, list[Profile]] = {}
    for label, profile in zip(labels.tolist(), having, strict=True):
        members.setdefault(label, []).append(profile)
    ordered = sorted(members.values(), key=lambda some: (-len(some), some[0].name))
    return [PeerGroup(_called(some, number), tuple(some), declared=False) for number, some in enumerate(ordered, 1)]


def distances(having: Sequence[Profile]) -> "NDArray[np.float64]":
    """Return the Jaccard distance of each pair of holders, in the order of SciPy's condensed matrices.

    By what pairs have in common, which few of the very many things are.
    """
    import numpy as np  # noqa: PLC0415
    from scipy.sparse import csr_array  # noqa: PLC0415

    columns = {one: number for number, one in enumerate({one for profile in having for one in profile.has})}
    rows = [row for row, profile in enumerate(having) for _ in profile.has]
    cells = [columns[one] for profile in having for one in profile.has]
    table = csr_array((np.ones(len(cells), dtype=np.int32), (rows, cells)), shape=(len(having), len(columns)))
    first, second = np.triu_indices(len(having), 1)
    common = (table @ table.T).toarray()[first, second]
    sizes = np.array([len(profile.has) for profile in having])
    either: NDArray[np.int64] = sizes[first] + sizes[second] - common
    return (either - common) / either


def _called(members: Sequence[Profile], number: int) -> str:
    """Return what a cluster is called: what most of its members have in common."""
    counts: dict[Having, int] = {}
    for profile in members:
        for one in profile.has:
            counts[one] = counts.get(one, 0) + 1
    common = max(sorted(counts), key=lambda one: (counts[one], one.is_membership), default=None)
    return f"cluster {number}" + (f" ({common.what} on {common.where})" if common is not None else "")
