"""From facts to links: every route that is no sudo rule: groups, setuid files, capabilities, writable places, readable secrets.

Knows which fact amounts to which link; the tables and the decisions themselves are in `groups`, `programs`, `writable` and `live`, keys and
delegations in modules of their own.
"""

import re
from collections.abc import Iterator

from msgspec.structs import replace

from fidelitas.facts import HostFacts, PasswordState, Place, SudoRule
from fidelitas.rights.graph.links import By, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.delegation_links import DelegationLinks
from fidelitas.rights.linux.files import NOBODY, Writers, above, writers, writers_told
from fidelitas.rights.linux.groups import conferred
from fidelitas.rights.linux.key_links import KeyLinks
from fidelitas.rights.linux.link_maker import LinkMaker, Links, Why
from fidelitas.rights.linux.live import stale_groups
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.population import Population
from fidelitas.rights.linux.programs import PrivilegedProgram, privileged_programs, who_runs
from fidelitas.rights.linux.sensitive import Exposed, exposed_logs, exposed_secrets
from fidelitas.rights.linux.sudo import Policy, leaves, stated_file
from fidelitas.rights.linux.writable import weak_places

__all__ = ["HostLinks"]

_RIGHTS = {
    "root": RightKind.ROOT,
    "read-secrets": RightKind.READ_SECRETS,
    "read-evidence": RightKind.READ_EVIDENCE,
    "write-evidence": RightKind.WRITE_EVIDENCE,
}


_INTERPRETER = re.compile(r"(?:(?:ba|da|k|z|mk|a|c|tc|fi)?sh|python[0-9.]*|perl[0-9.]*|ruby[0-9.]*|php[0-9.]*|node|lua[0-9.]*|env)\Z")
_MOST_FOLLOWED = 200


class HostLinks(LinkMaker):
    """The links of one host; each is yielded as the chain of links of one step, or as one that a group lends."""

    def __init__(self, facts: HostFacts, population: Population, policy: Policy, nodes: Nodes) -> None:
        super().__init__(facts, population, nodes)
        self._policy = policy
        self._states = facts.states

    def found(self) -> Links:
        """Yield every chain, and every link that a group lends, in a fixed order."""
        yield from self._sessions()
        yield from self._groups()
        yield from self._group_administrators()
        yield from self._programs()
        yield from self._writable()
        yield from self._sudo_commands()
        yield from KeyLinks(self._facts, self._population, self._nodes).found()
        yield from DelegationLinks(self._facts, self._population, self._nodes).found()
        yield from self._exposed()
        yield from self._same_ids()
        yield from self._subordinate_ids()
        yield from self._group_passwords()

    def _sessions(self) -> Links:
        """Groups that running processes hold and the files do not give any more: as good as membership until they end."""
        for stale in stale_groups(self._facts, self._population):
            if stale.held:
                group = self._nodes.group(stale.gid)
                first = stale.processes[0]
                because = f"has a running process {first.pid} ({first.name}) with group {stale.group}, which the files no longer give"
                place = Place(subject=self._facts.subject, path=f"/proc/{first.pid}/status")
                yield (self._nodes.membership(stale.who, group, because, place, Mechanism.HELD_MEMBERSHIP),)

    def _groups(self) -> Links:
        """What membership in a group confers by itself."""
        for group in self._population.groups:
            found = conferred(group, self._states)
            if found is None or not found.right or self._population.group_names.get(group.gid) != group.name:
                continue
            because = found.reason + (f"; {found.path} is there for it" if found.path else "")
            strength = Strength.CONDITIONAL if found.condition else Strength.CERTAIN
            conditions = (found.condition,) if found.condition else ()
            why = Why(By(Mechanism.GROUP, group.name), because, group.place, strength, conditions=conditions)
            yield from self.by_group(group.gid, self._nodes.right(_RIGHTS[found.right]), why)

    def _group_administrators(self) -> Links:
        """An administrator of a group, by gshadow(5), may add itself with gpasswd(1), and then has what the group gives."""
        for shadow in self._facts.group_shadows or ():
            for gid in (gid for gid in self._population.gids_called(shadow.name) if self._population.group_names[gid] == shadow.name):
                for name in dict.fromkeys(shadow.administrators):
                    who = self._population.by_name.get(name)
                    if who is not None and gid not in who.gids:
                        because = f"administers group {shadow.name} and may add itself to the group (gpasswd)"
                        why = Why(By(Mechanism.GROUP_ADMINISTRATOR), because, shadow.place, Strength.CERTAIN, kind=LinkKind.MAY_GRANT)
                        yield from self.by_account(who, self._nodes.group(gid), why)

    def _same_ids(self) -> Iterator[LinkPath]:
        """Accounts of one user ID are one account to the kernel, and to sudo the one whose line is first."""
        for who, first in self._population.under_one_id:
            if who.uid and first.name != who.name and who.account is not None:
                because = f"has the user ID of {first.name}, {who.uid}: to the kernel and to sudo they are one"
                why = Why(By(Mechanism.USER_ID), because, who.account.place, Strength.DIRECT, LinkKind.HAS)
                yield (self.link(self._nodes.account(who), self._nodes.account(first), why),)

    def _subordinate_ids(self) -> Iterator[LinkPath]:
        """Ranges of subuid(5) that reach root or another account: newuidmap(1) lets their owner act as it."""
        for one in self._facts.delegations.subordinates:
            who = self._population.by_name.get(one.owner) or (self._population.by_uid(int(one.owner)) if one.owner.isdecimal() else None)
            if who is None or who.uid == 0:
                continue
            for other in self._population.effective:
                if other.uid is not None and one.first <= other.uid < one.first + one.count and other.uid != who.uid:
                    span = f"{one.first} to {one.first + one.count - 1}"
                    because = f"may map the user ID of {other.name} into a namespace and act as it (newuidmap(1)): {span}"
                    why = Why(By(Mechanism.USER_ID), because, one.place, Strength.CERTAIN)
                    target = self._nodes.root if other.uid == 0 else self._nodes.account(other)
                    yield (self.link(self._nodes.account(who), target, why),)

    def _group_passwords(self) -> Iterator[LinkPath]:
        """Groups with a password: newgrp(1) takes anyone who knows it in; an empty one takes nobody."""
        shadows = {one.name: one for one in self._facts.group_shadows or ()}
        for group in self._population.groups:
            stated = shadows.get(group.name)
            password, place = (stated.password, stated.place) if stated is not None else (group.password, group.place)
            if password.state is PasswordState.USABLE:
                source = self._nodes.principal(PrincipalKind.PASSWORD, f"group {group.name}")
                why = Why(
                    By(Mechanism.GROUP, group.name),
                    f"newgrp makes anyone who knows the password a member of {group.name}",
                    place,
                    Strength.DIRECT,
                )
                yield (self.link(source, self._nodes.group(group.gid), why),)

    def _programs(self) -> Links:
        """Setuid files, and files with capabilities, that do whatever their user likes."""
        for program in privileged_programs(self._facts):
            reads = program.as_root or any(one.reads for one in program.capabilities)
            power = program.power or (program.lesser if reads else None)
            if power is None or not program.in_force or power.right == "write-evidence":
                continue
            target = self._target_of(program) if power.full else self._nodes.right(RightKind.READ_SECRETS)
            if target is None:
                continue
            why = Why(
                By(Mechanism.PROGRAM, program.path),
                f"{program.named} {_with(program)} and {power.reason}",
                Place(subject=self._facts.subject, path=program.path),
                Strength.CERTAIN,
            )
            yield from self.by_writers(self._runners(program, target), target, why)

    def _runners(self, program: PrivilegedProgram, target: Principal | Right) -> Writers:
        """Return who can run a program, without those who are what it gives."""
        found = who_runs(program, self._states, self._population)
        uids = (uid for uid in found.uids if target not in [self._nodes.account(one) for one in self._population.of_uid(uid)])
        return replace(found, uids=frozenset(uids), gids=frozenset(gid for gid in found.gids if target != self._nodes.group(gid)))

    def _target_of(self, program: PrivilegedProgram) -> Principal | Right | None:
        """Return as whom such a program runs."""
        if program.as_root:
            return self._nodes.root
        if any(one.reads for one in program.capabilities):
            return self._nodes.right(RightKind.READ_SECRETS)
        if program.set_id is None and any(one.hides for one in program.capabilities):
            return self._nodes.right(RightKind.WRITE_EVIDENCE)
        if program.set_id is None:
            return None
        if program.set_id.mode & 0o4000:
            owner = self._population.by_uid(program.set_id.uid)
            return self._nodes.principal(PrincipalKind.ACCOUNT, owner.name) if owner else None
        return self._nodes.principal(PrincipalKind.GROUP, self._population.group_names.get(program.set_id.gid, str(program.set_id.gid)))

    def _writable(self) -> Links:
        """Things that root, or another account, runs or reads as instructions, and others can write."""
        for weak in weak_places(self._facts, self._population):
            why = Why(
                By(Mechanism.WRITABLE, weak.at),
                weak.what,
                Place(subject=self._facts.subject, path=weak.at),
                Strength.CONDITIONAL if weak.condition else Strength.CERTAIN,
                LinkKind.MAY_GRANT,
                conditions=(weak.condition,) if weak.condition else (),
            )
            target = self._nodes.root if weak.account is None else self._nodes.account(weak.account)
            yield from self.by_writers(weak.who, target, why)

    def _exposed(self) -> Links:
        """Secrets that others can read, disks that they can write, and logs that they can write."""
        for one in exposed_secrets(self._facts, self._population):
            who = self._besides_groups(one.who)
            yield from self.by_writers(who, self._nodes.right(RightKind.READ_SECRETS), self._exposure(one, Mechanism.READABLE))
            disk = self._besides_groups(writers(self._states.get(one.path))) if one.path.startswith("/dev/") else NOBODY
            if disk:
                yield from self.by_writers(disk, self._nodes.root, self._exposure(one, Mechanism.WRITABLE))
        for one in exposed_logs(self._facts, self._population):
            yield from self.by_writers(one.who, self._nodes.right(RightKind.WRITE_EVIDENCE), self._exposure(one, Mechanism.WRITABLE))

    def _besides_groups(self, who: Writers) -> Writers:
        """Return who can use a file without the groups that give a right by themselves: their own link says that."""
        own = {group.gid for group in self._facts.groups if (given := conferred(group, self._states)) is not None and given.right}
        return Writers(uids=who.uids, gids=who.gids - own, everyone=who.everyone)

    def _exposure(self, one: Exposed, mechanism: Mechanism) -> Why:
        above_it = "" if one.at == one.path else f", above {one.path},"
        return Why(By(mechanism, one.at), f"{one.at}{above_it} {one.told}; {one.why}", one.place, Strength.CERTAIN)

    def _sudo_commands(self) -> Links:
        """Commands that the sudo policy lets someone run, and others can write: root as soon as it is run."""
        seen: set[str] = set()
        for rule, path in self._files_of_rules():
            state = self._states.get(path)
            if path in seen:
                continue
            seen.add(path)
            real = (state.real if state is not None else None) or path
            at = next((at for at in dict.fromkeys((*above(path), *above(real))) if writers(self._states.get(at))), None)
            if at is None:
                continue
            where = "" if at == path else f", above {path},"
            told = writers_told(self._states.get(at), self._population)
            because = f"{at}{where} {told}; a sudo rule names it ({rule.place.in_file()})"
            conditions = (f"if someone runs {path} as root by that rule",)
            place = Place(subject=self._facts.subject, path=at)
            why = Why(By(Mechanism.WRITABLE, at), because, place, Strength.CONDITIONAL, LinkKind.MAY_GRANT, conditions=conditions)
            yield from self.by_writers(writers(self._states.get(at)), self._nodes.root, why)

    def _files_of_rules(self) -> Iterator[tuple[SudoRule, str]]:
        """Yield the commands of rules, the scripts that they hand to interpreters, and what those scripts run in turn."""
        followed = self._facts.delegations.calls
        for rule in self._policy.facts.rules:
            for leaf in leaves(self._policy, rule.command):
                path = stated_file(leaf.command)
                if not leaf.allowed or not path:
                    continue
                queue, met = [path], {path}
                if _INTERPRETER.match(path.rpartition("/")[2]):
                    words = (leaf.command.arguments or "").split()
                    queue += [word for word in words if word.startswith("/") and "*" not in word][:1]
                while queue and len(met) < _MOST_FOLLOWED:
                    one = queue.pop(0)
                    yield rule, one
                    interpreter = self._facts.delegations.scripts.get(one, "")
                    for called in (*followed.get(one, ()), *((interpreter,) if interpreter.startswith("/") else ())):
                        if called not in met:
                            met.add(called)
                            queue.append(called)


def _with(program: PrivilegedProgram) -> str:
    """Return with what rights a program runs, as a clause."""
    if program.set_id is not None and program.set_id.mode & 0o4000:
        return "is setuid root" if program.set_id.uid == 0 else f"is setuid (uid {program.set_id.uid})"
    if program.capabilities:
        return f"has {', '.join(one.name for one in program.capabilities)}"
    return f"is setgid (gid {program.set_id.gid})" if program.set_id is not None else "has capabilities"
