"""Membership in force against membership in the files: what running processes hold that was taken away, or lack that was given.

A process keeps the groups that it was started with (credentials(7)); a change of the group file reaches it at the next log-in.
"""

from collections.abc import Iterator

from msgspec import Struct

from fidelitas.facts import HostFacts, Process
from fidelitas.rights.linux.population import AccountKind, Identity, Population

__all__ = ["Stale", "stale_groups"]


class Stale(Struct, frozen=True, kw_only=True):
    """A group of an account in which its processes and the files differ.

    `held`: processes have it and the files do not; else the files have it and no process does.
    """

    who: Identity
    gid: int
    group: str
    held: bool
    processes: tuple[Process, ...]


def stale_groups(facts: HostFacts, population: Population) -> Iterator[Stale]:
    """Yield the differences, account by account; nothing where processes were not listed.

    A lack counts only where every session lacks the group, and only of people: services are often given fewer groups on purpose.
    """
    by_uid: dict[int, list[Process]] = {}
    for process in facts.processes or ():
        if len(set(process.uids)) == 1 and process.uids[0] != 0:
            by_uid.setdefault(process.uids[0], []).append(process)
    for uid, processes in sorted(by_uid.items()):
        who = population.by_uid(uid)
        if who is None:
            continue
        held = {gid for process in processes for gid in process.groups}
        for gid in sorted(held - who.gids):
            having = tuple(process for process in processes if gid in process.groups)
            yield Stale(who=who, gid=gid, group=population.group_names.get(gid, str(gid)), held=True, processes=having)
        if who.kind is AccountKind.PERSON:
            primary = {process.gids[0] for process in processes}
            for gid in sorted(who.gids - held - primary):
                yield Stale(who=who, gid=gid, group=population.group_names.get(gid, str(gid)), held=False, processes=tuple(processes))
