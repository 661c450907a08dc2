"""Which options are in force for a question: Defaults entries, in the order of the file.

Global, host, user and run-as entries are one sequence, in which the later wins wherever it stands (sudoers(5), Defaults).  Entries
bound to commands come after all of them and are the business of the decision about a command.
"""

from collections.abc import Callable, Mapping, Sequence
from typing import cast

from msgspec import Struct

from fidelitas.facts import DefaultScope, Member, Place, SudoDefault
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.sudo.matching import Match, Policy

__all__ = ["EARLY", "Settings", "applies", "settings_for"]

# Flags that are on without being stated.
_ON = frozenset({"authenticate", "env_reset", "root_sudo", "use_netgroups", "case_insensitive_user", "case_insensitive_group"})
# Entries of these scopes apply to everyone, or not to the question of who runs what as whom.
_FOR_ALL = frozenset({DefaultScope.GLOBAL, DefaultScope.COMMAND})
# Options that sudo applies before all others, since the rest depends on them (defaults.c, early_defaults).
EARLY = frozenset({"ignore_unknown_defaults", "fqdn", "match_group_by_gid", "group_plugin", "runas_default", "sudoers_locale"})


class Settings(Struct, frozen=True):
    """The last entry for each option that applies."""

    entries: Mapping[str, SudoDefault]

    def on(self, flag: str) -> bool:
        """Return whether a flag is on."""
        entry = self.entries.get(flag)
        return flag in _ON if entry is None else entry.operator != "!"

    def value(self, option: str) -> str | None:
        """Return the value of an option; ``None`` where it is not stated or switched off."""
        entry = self.entries.get(option)
        return entry.value if entry is not None and entry.operator != "!" else None

    def place(self, option: str) -> Place | None:
        """Return where an option is stated."""
        entry = self.entries.get(option)
        return entry.place if entry else None


def settings_for(policy: Policy, who: Identity, target: Identity | None) -> Settings:
    """Return the options in force when `who` asks to run something as `target`."""

    def covers(members: Sequence[Member]) -> bool:
        return target is not None and _certain(policy.run_as_users(members, who, target))

    if not all(default.scope in _FOR_ALL for default in policy.facts.defaults):
        return Settings({default.option: default for default in policy.facts.defaults if applies(policy, default, who, covers)})
    if "settings" not in policy.worked_out:
        entries = {one.option: one for one in policy.facts.defaults if one.scope is DefaultScope.GLOBAL}
        policy.worked_out["settings"] = Settings(entries)
    return cast(Settings, policy.worked_out["settings"])


def applies(policy: Policy, default: SudoDefault, who: Identity, covers: Callable[[Sequence[Member]], bool]) -> bool:
    """Return whether an entry that is not bound to commands is in force; `covers` says whether a run-as list is about the target."""
    if default.scope is DefaultScope.HOST:
        return _certain(policy.hosts(default.binding))
    if default.scope is DefaultScope.USER:
        return _certain(policy.users(default.binding, who))
    if default.scope is DefaultScope.RUNAS:
        return covers(default.binding)
    return default.scope is DefaultScope.GLOBAL


def _certain(match: Match | None) -> bool:
    """What depends on something not in evidence is not taken to be in force: it could only hide that a password is asked or not."""
    return match is not None and match.allowed and not match.conditions
