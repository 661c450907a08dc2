"""Checks of accounts: who is root by number, who gets in without a password."""

from collections.abc import Iterator

from fidelitas.checks.check import Check, Found, check
from fidelitas.facts import PasswordState
from fidelitas.findings import Severity
from fidelitas.rights.accounts.identity import Login
from fidelitas.rights.linux.host import HostRights

__all__ = ["CHECKS"]


@check(
    "accounts.uid-zero",
    Severity.CRITICAL,
    advice="Give the account its own user ID, or remove it; its owner can use sudo, which is logged.",
)
def uid_zero(rights: HostRights) -> Iterator[Found]:
    """An account other than root has user ID 0.

    The kernel decides by user ID: this account is root under another name. Reviews of sudo rules, groups and root's password do not
    cover it.
    """
    for who in rights.population.identities:
        if who.uid == 0 and who.name != "root" and who.account is not None:
            name = who.name or "an account without a name"
            yield Found(
                about=who.name,
                message=f"{name} has user ID 0: it is root under another name (login: {who.login.value})",
                places=(who.account.place,),
            )


@check(
    "accounts.empty-password",
    Severity.HIGH,
    advice="Lock the password (passwd -l) or set one; refuse empty passwords in sshd_config and PAM.",
)
def empty_password(rights: HostRights) -> Iterator[Found]:
    """An account that can log in has an empty password.

    Anyone who reaches a login prompt, and any account of this host that may use su, becomes this account by pressing Enter.
    """
    for who in rights.population.effective:
        if who.password is not None and who.password.state is PasswordState.EMPTY and who.login is Login.FREELY and who.account:
            place = who.shadow.place if who.shadow else who.account.place
            worse = any(holding.right.kind == 0 for holding in rights.held_by(who.name))
            yield Found(
                about=who.name,
                message=f"{who.name} can log in and has an empty password" + (", and leads to root" if worse else ""),
                places=(place, who.account.place),
                severity=Severity.CRITICAL if worse else None,
            )


@check("accounts.duplicate-user-id", Severity.HIGH, advice="Give each account its own user ID.")
def duplicate_user_id(rights: HostRights) -> Iterator[Found]:
    """Two accounts have the same user ID.

    To the kernel and to sudo they are one account: each has the files and the rights of the other, and the log shows one name for both.
    """
    for who, first in rights.population.under_one_id:
        if who.uid and first.name != who.name and who.account is not None and not who.of_directory:
            message = f"{who.name} has the user ID of {first.name}, {who.uid}"
            yield Found(about=who.name, message=message, places=(who.account.place,))


@check("accounts.subordinate-user-ids", Severity.HIGH, advice="Remove the range, or give one that no account has (usermod --add-subuids).")
def subordinate_user_ids(rights: HostRights) -> Iterator[Found]:
    """The subordinate user IDs of an account include those of root or of another account.

    newuidmap maps them into a namespace of the account, which can then act as that account.
    """
    for one in rights.facts.delegations.subordinates:
        names = [who.name for who in rights.population.effective if who.uid is not None and one.first <= who.uid < one.first + one.count]
        others = [name for name in names if name != one.owner]
        if others:
            message = f"{one.owner} may map the user IDs of {', '.join(others[:5])} ({one.first} to {one.first + one.count - 1})"
            yield Found(about=f"{one.owner} {one.first}", message=message, places=(one.place,))


CHECKS: tuple[Check[HostRights], ...] = (
    uid_zero,
    empty_password,
    duplicate_user_id,
    subordinate_user_ids,
)
