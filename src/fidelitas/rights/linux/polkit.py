"""What polkit's own defaults amount to: actions that are answered "yes" where no rule says anything (polkit(8), pkexec(1))."""

from collections.abc import Iterator, Mapping

from msgspec import Struct

from fidelitas.facts import HostFacts, PolkitAction

__all__ = ["Unasked", "has_pkexec", "unasked_actions"]

# Actions that amount to root by themselves, and why.
_POWERFUL: Mapping[str, str] = {
    "org.freedesktop.policykit.exec": "pkexec runs anything as root",
    "org.freedesktop.systemd1.manage-units": "systemd-run starts anything as root",
    "org.freedesktop.systemd1.manage-unit-files": "services are enabled that run anything as root",
    "org.freedesktop.packagekit.package-install-untrusted": "packages of any origin are installed, whose scripts root runs",
    "org.freedesktop.accounts.user-administration": "accounts are made administrators",
    "org.libvirt.unix.manage": "virtual machines are started that use any disk of the host",
}
_AT_CONSOLE = "if the session is at the console of the machine: polkit asks for no password there"


class Unasked(Struct, frozen=True):
    """An action that polkit lets be done unasked: for a `program` alone, or else root for a `reason`; with the condition, if any."""

    action: PolkitAction
    reason: str
    program: str
    condition: str


def has_pkexec(facts: HostFacts) -> bool:
    """Return whether pkexec is there with root's rights."""
    set_id = facts.programs.set_id if facts.programs is not None else ()
    return any(one.path.endswith("/pkexec") and one.uid == 0 and one.mode & 0o4000 for one in set_id)


def unasked_actions(facts: HostFacts) -> Iterator[Unasked]:
    """Yield the actions of consequence that are answered "yes" by themselves, to anyone or to those who sit at the machine."""
    pkexec = has_pkexec(facts)
    for action in facts.delegations.polkit_actions:
        unasked = "yes" in (action.anyone, action.inactive, action.active)
        reason = _POWERFUL.get(action.name, "")
        program = action.program if pkexec and not reason else ""
        if unasked and (reason or program):
            yield Unasked(action, reason, program, "" if action.anyone == "yes" else _AT_CONSOLE)
