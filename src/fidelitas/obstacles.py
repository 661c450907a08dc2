"""What stands between an account and a command, and what would remove it: one cause each, as codes with their particulars.

Reads the decision that was made; decides nothing about the policy itself.
"""

import re
from collections.abc import Iterable, Iterator
from enum import StrEnum

from msgspec import Struct

from fidelitas.facts import SudoRule
from fidelitas.rights.linux.live import Stale
from fidelitas.rights.linux.population import Identity, Login
from fidelitas.rights.linux.sudo import Decision, Near, Policy, Question, Verdict

__all__ = ["Obstacle", "ObstacleKind", "obstacles", "rule_that_allows"]

# A name or path that can be written in a policy as it is (sudoers(5), "Special characters").
_PLAIN = re.compile(r"[A-Za-z0-9_/.+-][A-Za-z0-9_/.+@-]*\Z")
# What must be escaped in arguments, wildcards among them.
_SPECIAL = re.compile(r"[,:=\\*?\[\]]")


class ObstacleKind(StrEnum):
    """What is in the way."""

    NO_RULE = "no-rule"  # no rule is about the account on this host
    DIFFERENCE = "difference"  # the nearest rule differs in one thing
    BANNED = "banned"  # a rule denies the command
    OPTION = "option"  # an option of the policy, or something else that the decision states
    NOT_IN_SESSION = "membership-not-in-session"  # a group was given and no running session has it
    EXPIRED = "account-expired"
    NO_LOGIN = "no-login"  # neither a password nor a key
    NO_SHELL = "no-shell"
    BARRED = "refused-by-access-rules"  # access rules of the host refuse the account


class Obstacle(Struct, frozen=True, kw_only=True):
    """One cause: `near` is the rule that came nearest, `rule` the one that denies, `groups` whom a rule allows the same command."""

    kind: ObstacleKind
    account: str
    near: Near | None = None
    rule: SudoRule | None = None
    group: str | None = None
    groups: tuple[tuple[str, SudoRule], ...] = ()
    reason: str | None = None
    addition: str | None = None  # a rule that would allow it


_LOGINS = {
    Login.EXPIRED: ObstacleKind.EXPIRED,
    Login.NEITHER: ObstacleKind.NO_LOGIN,
    Login.REFUSED: ObstacleKind.NO_SHELL,
    Login.BARRED: ObstacleKind.BARRED,
}


def obstacles(
    question: Question,
    decision: Decision,
    who: Identity,
    policy: Policy,
    stale: Iterable[Stale],
    groups: tuple[tuple[str, SudoRule], ...] = (),
) -> tuple[Obstacle, ...]:
    """Return what is in the way: of the policy first, then of the session, then of the account itself."""
    found = [] if decision.verdict is Verdict.ALLOWED else [_refused(question, decision, groups)]
    return (*found, *_not_in_session(question, decision, who, policy, stale), *_account(who))


def _refused(question: Question, decision: Decision, groups: tuple[tuple[str, SudoRule], ...]) -> Obstacle:
    name, addition = question.account, rule_that_allows(question, decision.path)
    if decision.reason:
        return Obstacle(kind=ObstacleKind.OPTION, account=name, reason=decision.reason)
    if decision.verdict is Verdict.DENIED:
        return Obstacle(kind=ObstacleKind.BANNED, account=name, rule=decision.rule)
    near = decision.near[0] if decision.near else None
    kind = ObstacleKind.NO_RULE if near is None else ObstacleKind.DIFFERENCE
    return Obstacle(kind=kind, account=name, near=near, groups=groups, addition=addition)


def _not_in_session(question: Question, decision: Decision, who: Identity, policy: Policy, stale: Iterable[Stale]) -> Iterator[Obstacle]:
    """Yield the group that the deciding rule is about, where no running session of the account has it yet."""
    if decision.rule is None or decision.verdict is not Verdict.ALLOWED:
        return
    match = policy.users(decision.rule.users, who)
    for one in stale:
        if match is not None and match.member.value == f"%{one.group}" and one.who.name == who.name and not one.held:
            yield Obstacle(kind=ObstacleKind.NOT_IN_SESSION, account=question.account, group=one.group, rule=decision.rule)


def _account(who: Identity) -> Iterator[Obstacle]:
    kind = _LOGINS.get(who.login)
    if kind is not None and who.uid != 0:
        yield Obstacle(kind=kind, account=who.name, reason=who.account.shell if who.account is not None else None)


def rule_that_allows(question: Question, path: str | None) -> str | None:
    """Return a rule of sudoers(5) for just this command, or nothing where it cannot be written without quoting."""
    command, *arguments = question.command
    file = path if path and path.startswith("/") else command
    names = [name for name in (question.account, question.run_as, question.run_as_group) if name]
    text = " ".join(arguments)
    odd = re.search(r"[\n#\"]|(?:^| )(?: |$)", text) is not None  # what needs quoting, and words that are empty
    if not file.startswith("/") or not all(map(_PLAIN.match, [file, *names])) or (odd and arguments):
        return None
    target = (question.run_as or ("" if question.run_as_group else "root")) + (f":{question.run_as_group}" if question.run_as_group else "")
    # A backslash is escaped twice, for the scanner of the policy and for fnmatch(3).
    written = _SPECIAL.sub(r"\\\g<0>", text.replace("\\", "\\\\")) if arguments else '""'
    return f"{question.account} ALL = ({target}) {file} {written}"
