"""What the PAM settings of su ask before one account becomes another: pam_rootok(8), pam_wheel(8), pam_permit(8), pam_unix(8).

Knows those modules; a rule of another module that must succeed is a condition.
"""

from collections.abc import Sequence

from msgspec import Struct

from fidelitas.facts import PamRule, PamTask

__all__ = ["SuRules", "su_rules"]

# Modules that ask for the target's password, or only note and prepare.
# fmt: off
_USUAL = frozenset({
    "pam_unix.so", "pam_rootok.so", "pam_permit.so", "pam_deny.so", "pam_env.so", "pam_faildelay.so", "pam_faillock.so",
    "pam_cap.so", "pam_sss.so", "pam_localuser.so", "pam_usertype.so", "pam_wheel.so", "pam_xauth.so", "pam_nologin.so", "pam_securetty.so",
    "pam_tally2.so", "pam_succeed_if.so",
})
# fmt: on


# Modules that ask for a password, or refuse.
_ASKING = frozenset({"pam_unix.so", "pam_sss.so", "pam_deny.so"})


class SuRules(Struct, frozen=True, kw_only=True):
    """What su asks of an ordinary account.

    `open_to_all`: the rule by which nothing is asked at all.  `trusted`: a group whose members are not asked, by `trusted_by`.  `only`: the
    group that alone may use su, `banned` the one that may not.  `conditions`: what is asked besides that is not known.
    """

    known: bool
    open_to_all: PamRule | None = None
    trusted: str | None = None
    trusted_by: PamRule | None = None
    only: str | None = None
    banned: str | None = None
    empty_accepted: bool = True
    conditions: tuple[str, ...] = ()

    @property
    def told(self) -> tuple[str, ...]:
        """What must hold besides for an ordinary account to become another by su, as conditions of a route."""
        if not self.known:
            return ("if the PAM settings of su, which were not read, let it",)
        only = (f"if su is used from an account in group {self.only} (pam_wheel)",) if self.only else ()
        banned = (f"if su is used from an account outside group {self.banned} (pam_wheel)",) if self.banned else ()
        return (*only, *banned, *self.conditions)


def su_rules(rules: Sequence[PamRule] | None) -> SuRules:
    """Return what the rules of su amount to; ``None`` for rules that were not read."""
    if rules is None:
        return SuRules(known=False)
    trusted, only, banned, by = None, None, None, None
    conditions = []
    open_to_all, permitting = None, None
    stack = [rule for rule in rules if rule.task is PamTask.AUTH]
    asked = False
    for rule in stack:
        group = next((word.partition("=")[2] for word in rule.arguments if word.startswith("group=")), "wheel")
        if rule.module == "pam_wheel.so" and "deny" in rule.arguments:
            banned = group
        elif rule.module == "pam_wheel.so" and "trust" in rule.arguments and _ends(rule):
            trusted, by = trusted or group, by or rule
        elif rule.module == "pam_wheel.so" and rule.control in ("required", "requisite"):
            only = group
        elif rule.module == "pam_permit.so":
            permitting = permitting or rule
            open_to_all = open_to_all or (rule if not asked and _ends(rule) else None)
        elif rule.module not in _USUAL and rule.control in ("required", "requisite"):
            conditions.append(f"if {rule.module} succeeds, which is not known")
        asked = asked or rule.module in _ASKING or rule.module not in _USUAL
    if permitting is not None and not asked:  # nothing in the whole stack asks for anything
        trusted, by = (only, permitting) if only else (trusted, by)
        open_to_all = open_to_all if only else permitting
    return SuRules(
        known=True,
        open_to_all=open_to_all,
        trusted=trusted,
        trusted_by=by,
        only=only,
        banned=banned,
        empty_accepted=_takes_empty(stack),
        conditions=tuple(dict.fromkeys(conditions)),
    )


def _takes_empty(stack: Sequence[PamRule]) -> bool:
    """Return whether an empty password is taken: pam_unix(8) does where it says so."""
    asking = [rule for rule in stack if rule.module == "pam_unix.so"]
    return not asking or any("nullok" in rule.arguments or "nullok_secure" in rule.arguments for rule in asking)


def _ends(rule: PamRule) -> bool:
    """Return whether success of this rule is success of the whole."""
    return rule.control == "sufficient" or "success=done" in rule.control.replace(" ", "")
