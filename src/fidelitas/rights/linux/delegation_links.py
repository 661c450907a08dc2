"""From doas, polkit and PAM to links: who runs what as another account, and who is lent a group at login."""

from collections.abc import Iterable, Iterator

from fidelitas.facts import Command, DoasRule
from fidelitas.rights.graph.links import By, LinkKind, Mechanism, Principal, Right, RightKind, Strength
from fidelitas.rights.graph.paths import LinkPath
from fidelitas.rights.linux.lent_groups import lent_groups
from fidelitas.rights.linux.link_maker import LinkMaker, Links, Why
from fidelitas.rights.linux.polkit import has_pkexec, unasked_actions
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.powers import power_of

__all__ = ["DelegationLinks"]


class DelegationLinks(LinkMaker):
    """The links that doas, polkit and pam_group give."""

    def found(self) -> Links:
        """Yield every chain, and every link that a group lends, in a fixed order."""
        yield from self._doas()
        yield from self._polkit()
        yield from self._polkit_actions()
        yield from self._lent_groups()

    def _doas(self) -> Links:
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
            why = Why(
                By(Mechanism.DOAS),
                f"may run {command or 'any command'} as {acts_as} by a rule of doas{reason}",
                rule.place,
                Strength.CERTAIN if power else Strength.DIRECT,
                quote=rule.text,
                asks=None if "nopass" in rule.options else "own password",
            )
            yield from self._doas_users(rule, rules[index + 1 :], what, why)

    def _doas_users(self, rule: DoasRule, later: Iterable[DoasRule], what: Principal | Right, why: Why) -> Links:
        taken = [one for one in later if one.target in (None, rule.target or "root") and one.command in (None, rule.command)]
        for who in self._population.effective:
            if who.uid == 0 or not self._meant(rule, who) or any(self._meant(one, who) for one in taken):
                continue
            yield (self.link(self._nodes.account(who), what, why),)

    def _meant(self, rule: DoasRule, who: Identity) -> bool:
        if rule.identity.startswith(":"):
            return any(rule.identity[1:] in (membership.group.name, str(membership.group.gid)) for membership in who.memberships)
        return rule.identity in (who.name, str(who.uid))

    def _polkit(self) -> Links:
        """Administrators of polkit run anything as root with pkexec(1), by their own password; the first rule that names some counts."""
        rule = next((rule for rule in self._facts.delegations.polkit if rule.administrators), None)
        if rule is None or not has_pkexec(self._facts):
            return
        for kind, name in rule.administrators:
            why = Why(
                By(Mechanism.PKEXEC),
                "polkit counts it among the administrators, whom pkexec lets run anything as root",
                rule.place,
                Strength.CERTAIN,
                asks="own password",
            )
            if kind == "group":
                for gid, known in sorted(self._population.group_names.items()):
                    if known == name:
                        yield from self.by_group(gid, self._nodes.root, why)
            elif kind == "user" and name in self._population.by_name:
                yield from self.by_account(self._population.by_name[name], self._nodes.root, why)

    def _polkit_actions(self) -> Links:
        """What polkit lets anyone do unasked."""
        for one in unasked_actions(self._facts):
            power = power_of(Command(path=one.program)) if one.program else None
            full = bool(one.reason) or power is not None
            reason = one.reason or f"pkexec runs {one.program} as root" + (f", which {power.reason}" if power else "")
            why = Why(
                By(Mechanism.POLKIT),
                f"polkit answers yes to {one.action.name} without a password, and {reason}",
                one.action.place,
                Strength.CONDITIONAL if one.condition else Strength.CERTAIN,
                conditions=(one.condition,) if one.condition else (),
            )
            yield from self.by_anyone(self._nodes.root if full else self._nodes.right(RightKind.COMMAND, one.program), why)

    def _lent_groups(self) -> Iterator[LinkPath]:
        """Groups that PAM lends at log-ins of some kind (pam_group(8)): as good as membership in such a session."""
        for who, gid, lent in lent_groups(self._facts.logins, self._population):
            because = f"gets group {self._population.group_names[gid]} from PAM at login (pam_group)"
            when = f"in sessions of {lent.services}, on terminals {lent.terminals}, at times {lent.times}"
            why = Why(By(Mechanism.LOGIN_MEMBERSHIP), because, lent.place, Strength.CONDITIONAL, LinkKind.HAS, conditions=(when,))
            yield (self.link(self._nodes.anyone if who is None else self._nodes.account(who), self._nodes.group(gid), why),)


def _joined(arguments: tuple[str, ...] | None) -> str | None:
    return None if arguments is None else " ".join(arguments)
