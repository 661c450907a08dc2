"""Questions put to one host: may this account run this command as that account?

Knows how a question is written (also as JSON, in batches) and for which host it is; the decision itself is made in `rights.sudo`.  Pure:
evidence, files and the time of the question are given.
"""

import json
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from ipaddress import ip_interface
from typing import Any

from msgspec import Struct

from fidelitas.errors import RequestError
from fidelitas.facts import FileState, PolicyFileState, SudoPolicy, SudoRule
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.linux.host import read_host
from fidelitas.obstacles import Obstacle, obstacles
from fidelitas.rights import Takings
from fidelitas.rights.linux.host import policy_of
from fidelitas.rights.linux.live import Stale, stale_groups
from fidelitas.rights.linux.population import Identity, populate
from fidelitas.rights.linux.sudo import (
    Decision,
    Files,
    Host,
    Judge,
    NoFiles,
    Policy,
    Question,
    UnknownNameError,
    Verdict,
    groups_that_may,
    jail_of,
    notes_on,
)

__all__ = ["Answer", "Inquiry", "parse_time", "run_as_of"]

# A question of a batch is one line; a command line of Linux is at most 2 MiB (execve(2)), and JSON may double it.
LONGEST_QUESTION = 4 * 2**20


class Answer(Struct, frozen=True, kw_only=True):
    """A question with its decision and, where it is no, what came nearest."""

    question: Question
    decision: Decision
    notes: tuple[str, ...] = ()  # on the file behind the deciding rule's command
    obstacles: tuple[Obstacle, ...] = ()  # what is in the way, of the policy, the session or the account


class Inquiry:
    """One host's evidence and files, ready for many questions; `takings` is what hosts take of directories.

    Policies are read once for each host name that is asked about.
    """

    def __init__(
        self, evidence: HostEvidence, files: Files | None = None, host: Host | None = None, takings: Takings | None = None
    ) -> None:
        self._evidence, self._takings = evidence, takings or Takings()
        self._files = files or NoFiles()
        self._host = host
        self._judges: dict[object, tuple[Judge, Policy]] = {}
        self._answers: dict[object, str] = {}  # rules are kept by the policies, so that one's identity is its own
        self._states: Mapping[str, FileState] = {}
        self._sudo_version: str | None = None
        self._stale: tuple[Stale, ...] = ()

    @property
    def taken(self) -> datetime:
        """When the evidence was taken."""
        return self._evidence.taken

    @property
    def policy(self) -> Policy:
        """The policy on the host as it calls itself."""
        return self._judge(self._host)[1]

    @property
    def states(self) -> Mapping[str, FileState]:
        """What is at the paths that the evidence has looked at."""
        self._judge(self._host)
        return self._states

    @property
    def sudo_version(self) -> tuple[int, ...]:
        """The version of the host's sudo as numbers; empty where it is not known."""
        self._judge(self._host)
        numbers = "".join(sign if sign.isdigit() else " " for sign in self._sudo_version or "").split()
        return tuple(int(number) for number in numbers[:3])

    def group_of(self, rule: SudoRule, account: str) -> str:
        """Return the group by which a rule is about an account; nothing where it names the account itself, or all."""
        judge, policy = self._judge(self._host)
        try:
            who = judge.resolved(Question(account=account, command=("true",), at=self.taken))[0].who
        except UnknownNameError:
            return ""
        match = policy.users(rule.users, who)
        return match.member.value.removeprefix("%") if match is not None and match.member.value.startswith("%") else ""

    def ask(self, question: Question, *, whole: bool = False) -> Answer:
        """Return the answer to a question about the host as it calls itself; raises `RequestError` for unknown names."""
        judge, policy = self._judge(self._host)
        try:
            decision = judge.decide(question, whole=whole)
        except UnknownNameError as error:
            here = [name for name in policy.population.meant_by(question.account) if name != question.account]
            raise RequestError(str(error), hint=f"The host calls it {' or '.join(here)}." if here else "") from error
        if not whole:
            return Answer(question=question, decision=decision)
        target, resolved = judge.resolved(question)
        allowed = decision.verdict is Verdict.ALLOWED
        groups = () if allowed else tuple(groups_that_may(policy, target, resolved, question.at))
        return Answer(
            question=question,
            decision=decision,
            notes=(*judge.depends(question), *self._notes(policy, decision, target.who), *_left_out(policy.facts)),
            obstacles=obstacles(question, decision, target.who, policy, self._stale, groups),
        )

    def _notes(self, policy: Policy, decision: Decision, who: Identity) -> Iterator[str]:
        """Yield what to know of the file that the rule names."""
        if decision.leaf is None or decision.rule is None:
            return
        jail = jail_of(decision.rule)
        if jail:
            yield f"it runs inside {jail} (CHROOT): its path is one of that folder, and what that holds is not known"
        else:
            yield from notes_on(decision.leaf.command, who, self._states)
        if decision.rule.options.cwd is not None:
            chosen = decision.rule.options.cwd == "*"
            yield "the user chooses the folder that it runs in (CWD=*)" if chosen else f"it runs in {decision.rule.options.cwd} (CWD)"

    def decision(self, account: str, run_as: str | None, command: tuple[str, ...]) -> Decision:
        """Return the decision about a command at the time of the evidence; an account or group that does not exist may do nothing."""
        user, group = run_as_of(run_as)
        question = Question(account=account, command=command, run_as=user, run_as_group=group, at=self._evidence.taken)
        try:
            return self.ask(question).decision
        except RequestError as error:
            return Decision(verdict=Verdict.NO_RULE, reason=str(error))

    def batch(self, lines: Iterable[str], now: datetime) -> Iterator[str]:
        """Yield an answer in JSON for each question in JSON, one a line; a question that cannot be answered is answered by its error."""
        for line in lines:
            if line.strip():
                yield self._batched(line, now)

    def _batched(self, line: str, now: datetime) -> str:
        identifier = None
        try:
            if len(line) > LONGEST_QUESTION:
                raise ValueError(f"the question is longer than {LONGEST_QUESTION} characters")  # noqa: TRY301
            stated = json.loads(line)
            identifier = stated.get("id") if isinstance(stated, dict) else None
            question, host = _question(stated, now), _host(stated, self._host)
            decision = self._judge(host)[0].decide(question)
        except (ValueError, RecursionError) as error:  # UnknownNameError is a ValueError
            return json.dumps({"id": identifier, "error": str(error)})
        shown = identifier if type(identifier) is int else _encode(identifier)
        return f'{{"id": {shown}, {self._told(decision)}'

    def _told(self, decision: Decision) -> str:
        """Return an answer as the rest of a JSON object; few different ones are given again and again."""
        key = (decision.verdict, decision.password, id(decision.rule), decision.reason, decision.conditions)
        if key not in self._answers:
            self._answers[key] = _encode(_document(decision))[1:]
        return self._answers[key]

    def _judge(self, host: Host | None) -> tuple[Judge, Policy]:
        key = None if host is None else (host.name, host.addresses)
        if key not in self._judges:
            facts, nesting = self._takings.state(read_host(self._evidence if host is None else _Renamed(self._evidence, host.name)))
            self._states, self._sudo_version = facts.states, facts.sudo_version
            population = populate(facts, nesting)
            self._stale = tuple(stale_groups(facts, population))
            policy = policy_of(facts, population, host)
            policy.taken_as_no = set()
            self._judges[key] = (Judge(policy, self._files), policy)
        return self._judges[key]


_encode = json.JSONEncoder().encode


class _Renamed:
    """Evidence as if the host were called something else, which matters for includes with %h."""

    def __init__(self, evidence: HostEvidence, name: str) -> None:
        self._evidence = evidence
        self.host_name = name

    def __getattr__(self, name: str) -> Any:
        return getattr(self._evidence, name)


def _document(decision: Decision) -> dict[str, Any]:
    rule = decision.rule
    place = None
    if rule is not None:
        # sudo names a rule by the last line of its statement.
        place = {"path": rule.place.path, "line": rule.last_line, "column": rule.place.column, "first_line": rule.place.line}
    told = {"decision": decision.verdict.value, "password": decision.password, "rule": place, "reason": decision.reason or None}
    return {**told, "conditions": list(decision.conditions)} if decision.conditions else told


def run_as_of(text: str | None) -> tuple[str | None, str | None]:
    """Return the account and the group of ``USER``, ``USER:GROUP`` or ``:GROUP``."""
    if text is None:
        return None, None
    user, _, group = text.partition(":")
    return user or None, group or None


def parse_time(text: str) -> datetime:
    """Return a time of ISO 8601; UTC where it names no zone.  Raises `ValueError`."""
    time = datetime.fromisoformat(text)
    return time if time.tzinfo else time.replace(tzinfo=UTC)


# What of a question is text, where it is stated.
_TEXTS = ("account", "run_as", "run_as_group", "at", "host", "path", "folder")


def _question(stated: Any, now: datetime) -> Question:
    if not isinstance(stated, Mapping):
        raise ValueError("a question must be a JSON object")  # noqa: TRY004
    command = stated.get("command")
    if not isinstance(command, list) or not command or not all(isinstance(word, str) for word in command):
        raise ValueError('"command" must be a list of at least one string')
    for name in _TEXTS:
        value = stated.get(name)
        if value is not None and not isinstance(value, str):
            raise ValueError(f'"{name}" must be a string')
    if not stated.get("account"):
        raise ValueError('"account" is missing')
    at = stated.get("at")
    return Question(
        account=stated["account"],
        command=tuple(command),
        run_as=stated.get("run_as"),
        run_as_group=stated.get("run_as_group"),
        at=parse_time(at) if at else now,
        path=stated.get("path"),
        folder=stated.get("folder"),
    )


def _host(stated: Mapping[str, Any], known: Host | None) -> Host | None:
    """Return the host that a question names by name or addresses; else the one that is known."""
    name, addresses = stated.get("host"), stated.get("addresses")
    if name is None and addresses is None:
        return known
    if addresses is not None and not (isinstance(addresses, list) and all(isinstance(one, str) for one in addresses)):
        raise ValueError('"addresses" must be a list of strings')
    interfaces = tuple(ip_interface(one) for one in addresses) if addresses is not None else known.addresses if known else None
    return Host(name=name or (known.name if known else "localhost"), resolves=False, addresses=interfaces)


def _left_out(policy: SudoPolicy) -> Iterator[str]:
    """Yield what of a policy does not count, or was not read: an answer that hangs on it must not look complete."""
    states = (PolicyFileState.MISSING, PolicyFileState.REFUSED, PolicyFileState.NOT_SEEN)
    for file in policy.files:
        if file.state in states and not (file.folder and file.state is PolicyFileState.MISSING):
            yield f"{file.path}, which the policy includes: {file.reason}; its rules do not count here"
    errors = sum(gap.why.startswith("syntax error") for gap in policy.gaps)
    if errors:
        yield f"the policy has {errors} error{'s' if errors > 1 else ''}, and sudo drops those statements"
