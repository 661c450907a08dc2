"""From facts to links: every road to root that is no sudo rule: groups, setuid files, capabilities, keys, doas, polkit, writable things.

Knows which fact amounts to which link; the tables and the decisions themselves are in `groups`, `programs`, `writable`, `ssh` and `live`.
"""

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace

from fidelitas.facts import Command, DoasRule, HostFacts, PasswordState, Place, SudoRule
from fidelitas.rights.graph.group_edges import GroupEdge
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.files import NOBODY, Writers, above, readers, writers, writers_told
from fidelitas.rights.linux.groups import conferred
from fidelitas.rights.linux.lent_groups import lent_groups
from fidelitas.rights.linux.live import stale_groups
from fidelitas.rights.linux.nodes import Nodes
from fidelitas.rights.linux.polkit import has_pkexec, unasked_actions
from fidelitas.rights.linux.population import Identity, Population
from fidelitas.rights.linux.powers import power_of
from fidelitas.rights.linux.programs import PrivilegedProgram, privileged_programs, who_runs
from fidelitas.rights.linux.sensitive import Exposed, exposed_logs, exposed_secrets
from fidelitas.rights.linux.ssh import key_grants, key_name
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


@dataclass(frozen=True, slots=True)
class _Why:
    """What a link says besides its ends."""

    by: By
    because: str
    place: Place
    strength: Strength
    kind: LinkKind = LinkKind.MAY_BECOME
    quote: str | None = None
    asks: str | None = None
    conditions: tuple[str, ...] = ()


class HostLinks:
    """The links of one host; each is yielded as the chain of links of one step, or as one that a group lends."""

    def __init__(self, facts: HostFacts, population: Population, policy: Policy, nodes: Nodes) -> None:
        self._nodes = nodes
        self._facts = facts
        self._policy = policy
        self._population = population
        self._states = facts.states

    def found(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Yield every chain, and every link that a group lends, in a fixed order."""
        yield from self._sessions()
        yield from self._groups()
        yield from self._group_administrators()
        yield from self._programs()
        yield from self._writable()
        yield from self._sudo_commands()
        yield from self._keys()
        yield from self._doas()
        yield from self._polkit()
        yield from self._polkit_actions()
        yield from self._lent_groups()
        yield from self._exposed()
        yield from self._same_ids()
        yield from self._subordinate_ids()
        yield from self._group_passwords()

    # -- who ---------------------------------------------------------------------------------------------------------------------

    def _link(self, source: Principal, target: Principal | Right, why: _Why) -> Link:
        return Link(
            source=source,
            target=target,
            kind=why.kind,
            strength=why.strength,
            by=why.by,
            because=why.because,
            quote=why.quote,
            asks=why.asks,
            conditions=why.conditions,
            place=why.place,
        )

    def _by_account(self, who: Identity, target: Principal | Right, why: _Why) -> Iterator[LinkPath | GroupEdge[Identity]]:
        if who.uid != 0:
            yield (self._link(self._nodes.account(who), target, why),)

    def _by_group(self, gid: int, target: Principal | Right, why: _Why) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Yield the way of a group, and of each account that is in it."""
        link = self._link(self._nodes.group(gid), target, why)
        yield (link,)
        yield GroupEdge(link, gid, [who for who in self._population.in_gid(gid) if who.uid != 0])

    def _by_anybody(self, target: Principal | Right, why: _Why) -> Iterator[LinkPath | GroupEdge[Identity]]:
        link = self._link(self._nodes.anybody, target, why)
        yield (link,)
        yield GroupEdge(link, None, self._population.ordinary)

    def _by_writers(self, who: Writers, target: Principal | Right, why: _Why) -> Iterator[LinkPath | GroupEdge[Identity]]:
        if who.everybody:
            yield from self._by_anybody(target, why)
            return
        for uid in sorted(who.uids):
            for one in self._population.of_uid(uid):
                yield from self._by_account(one, target, why)
        for gid in sorted(who.gids):
            yield from self._by_group(gid, target, why)

    # -- by what -----------------------------------------------------------------------------------------------------------------

    def _sessions(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Groups that running processes hold and the files do not give any more: as good as membership until they end."""
        for stale in stale_groups(self._facts, self._population):
            if stale.held:
                group = self._nodes.group(stale.gid)
                first = stale.processes[0]
                because = f"has a running process {first.pid} ({first.name}) with group {stale.group}, which the files no longer give"
                place = Place(subject=self._facts.subject, path=f"/proc/{first.pid}/status")
                yield (self._nodes.membership(stale.who, group, because, place, Mechanism.HELD_MEMBERSHIP),)

    def _groups(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """What membership in a group confers by itself."""
        for group in self._population.groups:
            found = conferred(group, self._states)
            if found is None or not found.right or self._population.group_names.get(group.gid) != group.name:
                continue
            because = found.reason + (f"; {found.path} is there for it" if found.path else "")
            strength = Strength.CONDITIONAL if found.condition else Strength.CERTAIN
            conditions = (found.condition,) if found.condition else ()
            why = _Why(By(Mechanism.GROUP, group.name), because, group.place, strength, conditions=conditions)
            yield from self._by_group(group.gid, self._nodes.right(_RIGHTS[found.right]), why)

    def _group_administrators(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """An administrator of a group, by gshadow(5), may add itself with gpasswd(1), and then has what the group gives."""
        for shadow in self._facts.group_shadows or ():
            for gid in (gid for gid in self._population.gids_called(shadow.name) if self._population.group_names[gid] == shadow.name):
                for name in dict.fromkeys(shadow.administrators):
                    who = self._population.by_name.get(name)
                    if who is not None and gid not in who.gids:
                        because = f"administers group {shadow.name} and may add itself to the group (gpasswd)"
                        why = _Why(By(Mechanism.GROUP_ADMINISTRATOR), because, shadow.place, Strength.CERTAIN, kind=LinkKind.MAY_GRANT)
                        yield from self._by_account(who, self._nodes.group(gid), why)

    def _same_ids(self) -> Iterator[LinkPath]:
        """Accounts of one user ID are one account to the kernel, and to sudo the one whose line is first."""
        for who in self._population.effective:
            first = self._population.by_uid(who.uid) if who.uid else None
            if first is not None and first.name != who.name and who.account is not None:
                because = f"has the user ID of {first.name}, {who.uid}: to the kernel and to sudo they are one"
                why = _Why(By(Mechanism.USER_ID), because, who.account.place, Strength.DIRECT, LinkKind.HAS)
                yield (self._link(self._nodes.account(who), self._nodes.account(first), why),)

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
                    why = _Why(By(Mechanism.USER_ID), because, one.place, Strength.CERTAIN)
                    target = self._nodes.root if other.uid == 0 else self._nodes.account(other)
                    yield (self._link(self._nodes.account(who), target, why),)

    def _group_passwords(self) -> Iterator[LinkPath]:
        """Groups with a password: newgrp(1) takes anyone who knows it in; an empty one takes nobody."""
        shadows = {one.name: one for one in self._facts.group_shadows or ()}
        for group in self._population.groups:
            stated = shadows.get(group.name)
            password, place = (stated.password, stated.place) if stated is not None else (group.password, group.place)
            if password.state is PasswordState.USABLE:
                source = self._nodes.principal(PrincipalKind.PASSWORD, f"group {group.name}")
                why = _Why(
                    By(Mechanism.GROUP, group.name),
                    f"newgrp makes anyone who knows the password a member of {group.name}",
                    place,
                    Strength.DIRECT,
                )
                yield (self._link(source, self._nodes.group(group.gid), why),)

    def _programs(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Setuid files, and files with capabilities, that do whatever their user likes."""
        for program in privileged_programs(self._facts):
            reads = program.as_root or any(one.reads for one in program.capabilities)
            power = program.power or (program.lesser if reads else None)
            if power is None or not program.in_force or power.right == "write-evidence":
                continue
            target = self._target_of(program) if power.full else self._nodes.right(RightKind.READ_SECRETS)
            if target is None:
                continue
            why = _Why(
                By(Mechanism.PROGRAM, program.path),
                f"{program.named} {_with(program)} and {power.reason}",
                Place(subject=self._facts.subject, path=program.path),
                Strength.CERTAIN,
            )
            yield from self._by_writers(self._runners(program, target), target, why)

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

    def _writable(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Things that root, or another account, runs or reads as instructions, and others can write."""
        for weak in weak_places(self._facts, self._population):
            why = _Why(
                By(Mechanism.WRITABLE, weak.at),
                weak.what,
                Place(subject=self._facts.subject, path=weak.at),
                Strength.CONDITIONAL if weak.condition else Strength.CERTAIN,
                LinkKind.MAY_GRANT,
                conditions=(weak.condition,) if weak.condition else (),
            )
            target = self._nodes.root if weak.account is None else self._nodes.account(weak.account)
            yield from self._by_writers(weak.who, target, why)

    def _exposed(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Secrets that others can read, disks that they can write, and logs that they can write."""
        for one in exposed_secrets(self._facts, self._population):
            who = self._besides_groups(one.who)
            yield from self._by_writers(who, self._nodes.right(RightKind.READ_SECRETS), self._exposure(one, Mechanism.READABLE))
            disk = self._besides_groups(writers(self._states.get(one.path))) if one.path.startswith("/dev/") else NOBODY
            if disk:
                yield from self._by_writers(disk, self._nodes.root, self._exposure(one, Mechanism.WRITABLE))
        for one in exposed_logs(self._facts, self._population):
            yield from self._by_writers(one.who, self._nodes.right(RightKind.WRITE_EVIDENCE), self._exposure(one, Mechanism.WRITABLE))

    def _besides_groups(self, who: Writers) -> Writers:
        """Return who can use a file without the groups that give a right by themselves: their own link says that."""
        own = {group.gid for group in self._facts.groups if (given := conferred(group, self._states)) is not None and given.right}
        return Writers(uids=who.uids, gids=who.gids - own, everybody=who.everybody)

    def _exposure(self, one: Exposed, mechanism: Mechanism) -> _Why:
        above_it = "" if one.at == one.path else f", above {one.path},"
        return _Why(By(mechanism, one.at), f"{one.at}{above_it} {one.told}; {one.why}", one.place, Strength.CERTAIN)

    def _sudo_commands(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Commands that the sudo policy lets somebody run, and others can write: root as soon as it is run."""
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
            why = _Why(By(Mechanism.WRITABLE, at), because, place, Strength.CONDITIONAL, LinkKind.MAY_GRANT, conditions=conditions)
            yield from self._by_writers(writers(self._states.get(at)), self._nodes.root, why)

    def _private_keys(self, opened: Mapping[str, Principal]) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Private keys on this host that open an account of it: any account that can read the file has them."""
        for key in self._facts.logins.private_keys:
            node = opened.get(key.fingerprint or "")
            who = readers(key.path, self._states)
            if node is not None and who:
                needed = ("if its passphrase is known",) if key.encrypted else ()
                why = _Why(
                    By(Mechanism.PRIVATE_KEY),
                    f"has the private key {key.path}{'' if key.encrypted else ', without a passphrase'}",
                    Place(subject=self._facts.subject, path=key.path),
                    Strength.CONDITIONAL if needed else Strength.DIRECT,
                    LinkKind.HAS,
                    conditions=needed,
                )
                yield from self._by_writers(who, node, why)

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

    def _keys(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Keys that open an account: whoever holds the private half."""
        opened: dict[str, Principal] = {}
        for who in self._population.effective:
            for key_grant in key_grants(self._facts, who, self._population):
                key = key_grant.key
                source = opened[key.fingerprint] = self._nodes.principal(PrincipalKind.KEY, key_name(key))
                how = "a key signed by it opens" if key.authority else "it opens"
                why = _Why(
                    By(Mechanism.SSH_KEY),
                    f"{how} the account {who.name} over SSH",
                    key.place,
                    Strength.CONDITIONAL if key_grant.conditions else Strength.DIRECT,
                    conditions=key_grant.conditions,
                )
                yield (self._link(source, self._opened(who, key_grant.command), why),)
        yield from self._private_keys(opened)

    def _opened(self, who: Identity, command: str) -> Principal | Right:
        if command:
            suffix = "" if who.uid == 0 else f" as {who.name}"
            return self._nodes.right(RightKind.COMMAND, f"{command}{suffix}")
        return self._nodes.root if who.uid == 0 else self._nodes.account(who)

    def _doas(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """The rules of doas; the last that matches counts (doas.conf(5))."""
        rules = self._facts.delegations.doas or ()
        for index, rule in enumerate(rules):
            other = self._population.by_name.get(rule.target or "")
            if not rule.permit or (rule.target not in (None, "root", "0") and other is None):
                continue
            command = None if rule.command is None else Command(path=rule.command, arguments=_joined(rule.arguments))
            power = power_of(command) if command else None
            full = command is None or power is not None
            acts_as = "root" if rule.target in (None, "root", "0") or other is None else other.name
            suffix = "" if acts_as == "root" else f" as {acts_as}"
            what: Principal | Right = (
                self._nodes.root if full and acts_as == "root" else self._nodes.right(RightKind.COMMAND, f"{command or 'ALL'}{suffix}")
            )
            if full and acts_as != "root" and other is not None:
                what = self._nodes.account(other)
            reason = f", which {power.reason}" if power else ""
            why = _Why(
                By(Mechanism.DOAS),
                f"may run {command or 'any command'} as {acts_as} by a rule of doas{reason}",
                rule.place,
                Strength.CERTAIN if power else Strength.DIRECT,
                quote=rule.text,
                asks=None if "nopass" in rule.options else "own password",
            )
            yield from self._doas_users(rule, rules[index + 1 :], what, why)

    def _doas_users(
        self, rule: DoasRule, later: Iterable[DoasRule], what: Principal | Right, why: _Why
    ) -> Iterator[LinkPath | GroupEdge[Identity]]:
        taken = [one for one in later if one.target in (None, rule.target or "root") and one.command in (None, rule.command)]
        for who in self._population.effective:
            if who.uid == 0 or not self._meant(rule, who) or any(self._meant(one, who) for one in taken):
                continue
            yield (self._link(self._nodes.account(who), what, why),)

    def _meant(self, rule: DoasRule, who: Identity) -> bool:
        if rule.identity.startswith(":"):
            return any(rule.identity[1:] in (membership.group.name, str(membership.group.gid)) for membership in who.memberships)
        return rule.identity in (who.name, str(who.uid))

    def _polkit(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """Administrators of polkit run anything as root with pkexec(1), by their own password; the first rule that names some counts."""
        rule = next((rule for rule in self._facts.delegations.polkit if rule.administrators), None)
        if rule is None or not has_pkexec(self._facts):
            return
        for kind, name in rule.administrators:
            why = _Why(
                By(Mechanism.PKEXEC),
                "polkit counts it among the administrators, whom pkexec lets run anything as root",
                rule.place,
                Strength.CERTAIN,
                asks="own password",
            )
            if kind == "group":
                for gid, known in sorted(self._population.group_names.items()):
                    if known == name:
                        yield from self._by_group(gid, self._nodes.root, why)
            elif kind == "user" and name in self._population.by_name:
                yield from self._by_account(self._population.by_name[name], self._nodes.root, why)

    def _polkit_actions(self) -> Iterator[LinkPath | GroupEdge[Identity]]:
        """What polkit lets anybody do unasked."""
        for one in unasked_actions(self._facts):
            power = power_of(Command(path=one.program)) if one.program else None
            full = bool(one.reason) or power is not None
            reason = one.reason or f"pkexec runs {one.program} as root" + (f", which {power.reason}" if power else "")
            why = _Why(
                By(Mechanism.POLKIT),
                f"polkit answers yes to {one.action.name} without a password, and {reason}",
                one.action.place,
                Strength.CONDITIONAL if one.condition else Strength.CERTAIN,
                conditions=(one.condition,) if one.condition else (),
            )
            yield from self._by_anybody(self._nodes.root if full else self._nodes.right(RightKind.COMMAND, one.program), why)

    def _lent_groups(self) -> Iterator[LinkPath]:
        """Groups that PAM lends at log-ins of some kind (pam_group(8)): as good as membership in such a session."""
        for who, gid, lent in lent_groups(self._facts.logins, self._population):
            because = f"gets group {self._population.group_names[gid]} from PAM at login (pam_group)"
            when = f"in sessions of {lent.services}, on terminals {lent.terminals}, at times {lent.times}"
            why = _Why(By(Mechanism.LOGIN_MEMBERSHIP), because, lent.place, Strength.CONDITIONAL, LinkKind.HAS, conditions=(when,))
            yield (self._link(self._nodes.anybody if who is None else self._nodes.account(who), self._nodes.group(gid), why),)


def _joined(arguments: tuple[str, ...] | None) -> str | None:
    return None if arguments is None else " ".join(arguments)


def _with(program: PrivilegedProgram) -> str:
    """Return with what rights a program runs, as a clause."""
    if program.set_id is not None and program.set_id.mode & 0o4000:
        return "is setuid root" if program.set_id.uid == 0 else f"is setuid (uid {program.set_id.uid})"
    if program.capabilities:
        return f"has {', '.join(one.name for one in program.capabilities)}"
    return f"is setgid (gid {program.set_id.gid})" if program.set_id is not None else "has capabilities"
