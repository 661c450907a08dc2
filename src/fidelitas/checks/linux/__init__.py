"""Checks of one Linux host."""

from fidelitas.checks.check import Check
from fidelitas.checks.linux import (
    accounts,
    exposure,
    groups,
    logins,
    programs,
    running,
    services,
    sudo_commands,
    sudo_files,
    sudo_options,
    sudo_rules,
)
from fidelitas.rights.linux.host import HostRights

__all__ = ["CHECKS"]

_MODULES = (accounts, sudo_rules, sudo_files, sudo_commands, sudo_options, programs, groups, running, logins, exposure, services)
CHECKS: tuple[Check[HostRights], ...] = tuple(check for module in _MODULES for check in module.CHECKS)
