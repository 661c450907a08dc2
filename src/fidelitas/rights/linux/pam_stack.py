"""Whether a stack of PAM modules succeeds although nobody types a password: pam.conf(5), and the manual page of each module.

Walks the rules as libpam does, with their controls and jumps.  A module that asks for something fails here; one that is not known counts as
one that asks.  What depends on a file that was not copied is a condition.
"""

import operator
import re
from collections.abc import Callable, Mapping, Sequence

from msgspec import Struct

from fidelitas.facts import PamRule
from fidelitas.patterns import wildcard_matches
from fidelitas.rights.linux.population import Identity

__all__ = ["Passage", "passage"]

_SUCCESS, _FAIL, _IGNORE = "success", "auth_err", "ignore"
# Modules that neither ask nor decide: they prepare, note or delay (each by its manual page).
_NEUTRAL = frozenset({
    "pam_env.so", "pam_faildelay.so", "pam_nologin.so", "pam_cap.so", "pam_group.so", "pam_xauth.so", "pam_warn.so", "pam_echo.so",
    "pam_lastlog.so", "pam_mail.so", "pam_motd.so", "pam_debug.so", "pam_gnome_keyring.so", "pam_kwallet.so", "pam_kwallet5.so",
    "pam_ecryptfs.so", "pam_mount.so", "pam_script.so", "pam_keyinit.so", "pam_loginuid.so", "pam_limits.so", "pam_systemd.so",
})  # fmt: skip
_SURE = frozenset({"pam_permit.so", "pam_localuser.so", "pam_securetty.so", "pam_faillock.so", "pam_tally2.so", "pam_shells.so"})
# sufficient and its kin as brackets (pam.conf(5)).
_WORDS: Mapping[str, Mapping[str, str]] = {
    "required": {"success": "ok", "ignore": "ignore", "default": "bad"},
    "requisite": {"success": "ok", "ignore": "ignore", "default": "die"},
    "sufficient": {"success": "done", "default": "ignore"},
    "optional": {"success": "ok", "default": "ignore"},
}
_COMPARED: Mapping[str, Callable[[int, int], bool]] = {
    "eq": operator.eq, "ne": operator.ne, "lt": operator.lt, "le": operator.le, "gt": operator.gt, "ge": operator.ge,
    "=": operator.eq, "!=": operator.ne, "<": operator.lt, "<=": operator.le, ">": operator.gt, ">=": operator.ge,
}  # fmt: skip


class Passage(Struct, frozen=True, kw_only=True):
    """How a stack is passed without a password: by which rule, under which conditions."""

    rule: PamRule
    conditions: tuple[str, ...] = ()


def passage(stack: Sequence[PamRule], user: Identity, asker: Identity | None = None) -> Passage | None:
    """Return how `user` is authenticated without a password, or nothing; `asker` is who asks, where that is another account, as for su."""
    positive, failed = None, False
    conditions: list[str] = []
    at = 0
    while at < len(stack):
        rule = stack[at]
        outcome, condition = _outcome(rule, user, asker)
        if condition:
            conditions.append(condition)
        action = _action(rule.control, outcome)
        at += 1
        if action in ("ok", "done") or action.isdecimal():
            if outcome == _SUCCESS and not failed:
                positive = positive or rule
            at += int(action) if action.isdecimal() else 0
            if action == "done" and not failed:
                break
        elif action in ("bad", "die"):
            failed = True
            if action == "die":
                return None
        elif action == "reset":
            positive, failed = None, False
    return None if failed or positive is None else Passage(rule=positive, conditions=tuple(dict.fromkeys(conditions)))


def _action(control: str, outcome: str) -> str:
    known = _WORDS.get(control)
    if known is None:
        pairs = (word.partition("=") for word in control.strip("[]").split())
        known = {name: value for name, _, value in pairs}
    return known.get(outcome, known.get("default", "bad"))


def _outcome(rule: PamRule, user: Identity, asker: Identity | None) -> tuple[str, str]:
    """Return what a module answers where nothing is typed, and the condition of that."""
    module = rule.module
    if module in _SURE:
        return _SUCCESS, ""
    if module in _NEUTRAL:
        return _IGNORE, ""
    if module == "pam_rootok.so":
        return (_SUCCESS if asker is not None and asker.uid == 0 else _FAIL), ""
    if module == "pam_usertype.so":
        return (_SUCCESS if "isregular" in rule.arguments and (user.uid or 0) >= 1000 else _FAIL), ""
    if module == "pam_wheel.so":
        return _wheel(rule, asker or user), ""
    if module == "pam_succeed_if.so":
        return (_SUCCESS if _succeeds(rule.arguments, asker if "use_uid" in rule.arguments and asker is not None else user) else _FAIL), ""
    if module == "pam_listfile.so":
        file = next((word.partition("=")[2] for word in rule.arguments if word.startswith("file=")), "")
        return _SUCCESS, f"if {file} lists the account (pam_listfile)"
    return _FAIL, ""


def _wheel(rule: PamRule, who: Identity) -> str:
    group = next((word.partition("=")[2] for word in rule.arguments if word.startswith("group=")), "wheel")
    inside = any(one.group.name == group for one in who.memberships) is not ("deny" in rule.arguments)
    if not inside:
        return "perm_denied"
    return _SUCCESS if "trust" in rule.arguments else _IGNORE


def _succeeds(arguments: Sequence[str], who: Identity) -> bool:
    """Return whether all conditions of pam_succeed_if(8) hold: triples of a field, a comparison and a value."""
    words = [word for word in arguments if word not in ("debug", "use_uid", "quiet", "quiet_fail", "quiet_success", "audit")]
    at = 0
    while at + 3 <= len(words):
        if not _holds(words[at], words[at + 1], words[at + 2], who):
            return False
        at += 3
    return at > 0


def _holds(field: str, comparison: str, value: str, who: Identity) -> bool:
    groups = {one.group.name for one in who.memberships}
    text = {"user": who.name, "uid": str(who.uid), "gid": str(who.gid), "shell": who.account.shell if who.account else "",
            "home": who.account.home if who.account else ""}.get(field, "")  # fmt: skip
    if comparison in ("ingroup", "notingroup"):
        return bool(groups & set(value.split(":"))) is (comparison == "ingroup")
    if comparison in ("in", "notin"):
        return (text in value.split(":")) is (comparison == "in")
    if comparison in ("=~", "!~"):
        return wildcard_matches(value, text) is (comparison == "=~")
    if field in ("user", "shell", "home"):
        return (text == value) is (comparison in ("=", "eq"))
    number = re.match(r"-?\d+\Z", value)
    compare = _COMPARED.get(comparison)
    return compare is not None and number is not None and text.isdecimal() and compare(int(text), int(value))
