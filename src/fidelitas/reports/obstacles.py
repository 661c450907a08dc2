"""What is in the way of a command, in a sentence, and what removes it."""

import shlex
from typing import Any

from fidelitas.obstacles import Obstacle, ObstacleKind
from fidelitas.reports.places import place_document
from fidelitas.reports.refusals import difference, near_document
from fidelitas.rights.linux.sudo import Difference

__all__ = ["cause", "obstacle_document", "remedy"]


def cause(one: Obstacle) -> str:
    """Return the cause in one clause, with its place."""
    rule = f" at {one.rule.place.in_file()}" if one.rule is not None else ""
    near = difference(one.near) + f" ({one.near.rule.place.in_file()})" if one.near is not None else ""
    return {
        ObstacleKind.NO_RULE: f"no rule of sudo on this host is about {one.account}",
        ObstacleKind.DIFFERENCE: near,
        ObstacleKind.BANNED: f"the rule{rule} denies it",
        ObstacleKind.OPTION: one.reason or "",
        ObstacleKind.NOT_IN_SESSION: f"no running session of {one.account} has group {one.group} yet, which the rule{rule} is for",
        ObstacleKind.EXPIRED: f"the account {one.account} has expired: PAM refuses it",
        ObstacleKind.NO_LOGIN: f"{one.account} has no password and no key: it cannot log in",
        ObstacleKind.BARRED: f"the access rules of the host (sssd) refuse {one.account}: it can neither log in nor use sudo",
        ObstacleKind.NO_SHELL: f"the shell of {one.account} ({one.reason}) refuses logins",
    }[one.kind]


def remedy(one: Obstacle) -> str:
    """Return what removes it: a command, an edit, or what to run instead."""
    name = shlex.quote(one.account)
    rule = one.rule.place.in_file() if one.rule is not None else ""
    return {
        ObstacleKind.NO_RULE: _additions(one),
        ObstacleKind.DIFFERENCE: _for_difference(one),
        ObstacleKind.BANNED: f"edit or remove {rule} (visudo -f {rule.partition(':')[0]}), or add a rule after it: the last match decides",
        ObstacleKind.OPTION: "change the option with visudo, if that is meant",
        ObstacleKind.NOT_IN_SESSION: f"{one.account} logs out everywhere and logs in again",
        ObstacleKind.EXPIRED: f"chage -E -1 {name}, if the account is still needed",
        ObstacleKind.NO_LOGIN: f"passwd {name}, or give it a key",
        ObstacleKind.BARRED: f"add {name} to those whom the access rules of the host allow to log in",
        ObstacleKind.NO_SHELL: f"chsh -s /bin/bash {name}, if a person uses it",
    }[one.kind]


def _for_difference(one: Obstacle) -> str:
    near = one.near
    if near is None:
        return ""
    instead = {
        Difference.ARGUMENTS: f"run it with the arguments of the rule ({near.allowed or 'none'})",
        Difference.PATH: f"run {near.allowed}",
        Difference.COMMAND: "",
        Difference.RUN_AS: f"run it as {near.allowed} (sudo -u)",
        Difference.HOST: f"run it on {near.allowed}",
        Difference.TIME: "change the times of the rule",
    }[near.difference]
    more = _additions(one)
    return "; or ".join(part for part in (instead, more) if part)


def _additions(one: Obstacle) -> str:
    """Return which group has a rule for it, and the rule that would give just this."""
    parts = [] if one.addition is None else [f"add with visudo: {one.addition}"]
    parts += [
        f"gpasswd -a {shlex.quote(one.account)} {shlex.quote(group)}, a group that has a rule for it ({rule.place.in_file()})"
        for group, rule in one.groups[:1]
    ]
    return "; or ".join(parts) or "add a rule with visudo"


def obstacle_document(one: Obstacle) -> dict[str, Any]:
    """Return the codes of an obstacle, with the words."""
    return {
        "kind": one.kind.value,
        "cause": cause(one),
        "remedy": remedy(one),
        "place": place_document(one.rule.place) if one.rule is not None else None,
        "near": near_document(one.near) if one.near is not None else None,
        "groups": [group for group, _ in one.groups],
        "rule": one.addition,
    }
