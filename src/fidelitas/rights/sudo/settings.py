"""Which options are in force for a question: Defaults entries, in the order of the file.

Global, host, user and run-as entries are one sequence, in which the later wins wherever it stands (sudoers(5), Defaults).  Entries
bound to commands come after all of them and are the business of the decision about a command.
"""

from collections.abc import Mapping
from dataclasses import dataclass

from fidelitas.facts import DefaultScope, Place, SudoDefault
from fidelitas.rights.population import Identity
from fidelitas.rights.sudo.matching import Policy

__all__ = ["EARLY", "Settings", "settings_for"]

# Flags that are on without being stated.
_ON = frozenset({"authenticate", "env_reset", "root_sudo", "use_netgroups", "case_insensitive_user", "case_insensitive_group"})
# Options that sudo applies before all others, since the rest depends on them (defaults.c, early_defaults).
EARLY = frozenset({"ignore_unknown_defaults", "fqdn", "match_group_by_gid", "group_plugin", "runas_default", "sudoers_locale"})


@dataclass(frozen=True, slots=True)
class Settings:
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
    entries = {default.option: default for default in policy.facts.defaults if _applies(policy, default, who, target)}
    return Settings(entries)


def _applies(policy: Policy, default: SudoDefault, who: Identity, target: Identity | None) -> bool:
    if default.scope is DefaultScope.GLOBAL:
        return True
    if default.scope is DefaultScope.HOST:
        match = policy.hosts(default.binding)
    elif default.scope is DefaultScope.USER:
        match = policy.users(default.binding, who)
    elif default.scope is DefaultScope.RUNAS and target is not None:
        match = policy.run_as_users(default.binding, who, target)
    else:
        return False
    # What depends on something not in evidence is not taken to be in force: it could only hide that a password is asked or not.
    return match is not None and match.allowed and not match.conditions
