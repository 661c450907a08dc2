"""May this account run this command as that account?  The decision, and the rule that made it.

Follows sudo's own search (sudoers_lookup_check): user specifications from last to first, and the first command that says yes or no
decides.  Time, host and files are arguments.
"""

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from enum import Enum
from posixpath import normpath

from msgspec import Struct, field
from msgspec.structs import replace

from fidelitas.facts import DefaultScope, Member, MemberKind, SudoDefault, SudoRule, Tag
from fidelitas.rights.linux.population import AccountKind, Identity, Login
from fidelitas.rights.linux.sudo.candidates import Candidates
from fidelitas.rights.linux.sudo.commands import USUAL_PATH, ResolvedCommand, command_matches, depends_on_mask, resolve_command
from fidelitas.rights.linux.sudo.files import Files
from fidelitas.rights.linux.sudo.grants import Leaf, leaves
from fidelitas.rights.linux.sudo.matching import Policy
from fidelitas.rights.linux.sudo.nearest import Near, nearest
from fidelitas.rights.linux.sudo.run_as import Target, run_as_matches
from fidelitas.rights.linux.sudo.settings import EARLY, Settings, applies

__all__ = ["Decision", "Judge", "Question", "UnknownNameError", "Verdict"]


# So many pairs of who asks and as whom are kept: questions come from files that anyone may have written.
_MOST_ASKERS = 20_000


class Verdict(Enum):
    """What sudo would answer."""

    ALLOWED = "allowed"
    DENIED = "denied"
    NO_RULE = "no-rule"

    __hash__ = object.__hash__


class UnknownNameError(ValueError):
    """A question about an account or a group that does not exist."""


class Question(Struct, frozen=True, kw_only=True):
    """Who asks to run what as whom, when.  Run-as names may be ``#`` and a number; ``None`` where the option is not given.

    A command without a slash is looked for in the folders of `path`, unless the policy says where (secure_path); one with a slash that is
    not absolute is a file of `folder`.  Where they are not stated the usual path is taken, and the command as it stands.
    """

    account: str
    command: tuple[str, ...]
    at: datetime
    run_as: str | None = None
    run_as_group: str | None = None
    path: str | None = None
    folder: str | None = None


class Decision(Struct, frozen=True, kw_only=True):
    """The answer: the rule that decided and its command, whether a password is asked, and the tags in force."""

    verdict: Verdict
    rule: SudoRule | None = None
    leaf: Leaf | None = None
    password: bool | None = None
    reason: str | None = None
    path: str | None = None  # where the command was found, or is taken to be
    tags: tuple[tuple[Tag, bool], ...] = ()
    before: tuple[SudoRule, ...] = ()  # the rules that would have decided, had no later one
    conditions: tuple[str, ...] = ()  # what the answer depends on and is not in evidence
    near: tuple[Near, ...] = ()  # where it is no: the rules that came nearest, and what differs


class _Asker(Struct, frozen=True):
    """Who asks to act as whom, with all that does not depend on the command: worked out once, asked many times."""

    target: Target
    settings: Settings
    search: str | None  # the folders in which the policy has commands looked for
    exempt: bool
    candidates: Candidates
    passwords: dict[int, bool] = field(default_factory=dict)  # by rule


class Judge:
    """A policy on a host with its files, ready to answer many questions."""

    def __init__(self, policy: Policy, files: Files) -> None:
        self._policy = policy
        self._files = files
        self._leaves = [list(leaves(policy, rule.command)) for rule in policy.facts.rules]
        self._timed = {
            number: rule.options
            for number, rule in enumerate(policy.facts.rules)
            if rule.options.not_before is not None or rule.options.not_after is not None
        }
        self._bound = [default for default in policy.facts.defaults if default.scope is DefaultScope.COMMAND]
        self._paths = frozenset(leaf.command.path for found in self._leaves for leaf in found)
        self._accounts: dict[str, Identity] = {}
        self._about: dict[int, list[int]] = {}
        self._askers: dict[tuple[str, str | None, str | None], _Asker] = {}
        self._settings: dict[object, Settings] = {}

    def decide(self, question: Question, *, whole: bool = False) -> Decision:
        """Return the decision; with `whole`, also what a later rule overrides, the tags, and what came nearest to a yes.

        Raises `UnknownNameError`.
        """
        asker = self._asker(question)
        resolved = self._command(question, asker)
        decision = self._decision(asker, resolved, question.at, whole=whole)
        if not whole or decision.password is not None:
            return decision
        return replace(decision, near=tuple(nearest(self._policy, asker.target, resolved, question.at)))

    def _decision(self, asker: _Asker, resolved: ResolvedCommand, now: datetime, *, whole: bool) -> Decision:
        target, settings = asker.target, asker.settings
        if target.who.uid == 0 and not settings.on("root_sudo"):
            return Decision(verdict=Verdict.NO_RULE, reason="root may not use sudo here (the option root_sudo is off)")
        if self._bound:
            settings = self._for_command(settings, resolved)
        matching = self._matching(asker, settings, resolved, now)
        first, conditions = _first_certain(matching, resolved)
        if first is None:
            return Decision(verdict=Verdict.NO_RULE, path=resolved.path, conditions=conditions)
        rule, leaf = first
        before = tuple(other for other, _ in matching) if whole else ()
        if not leaf.allowed:
            return Decision(verdict=Verdict.DENIED, rule=rule, leaf=leaf, path=resolved.path, before=before, conditions=conditions)
        if target.user.account is None and not settings.on("runas_allow_unknown_id"):
            reason = f"user ID {target.user.uid} is not in the passwd file (the option runas_allow_unknown_id is off)"
            return Decision(verdict=Verdict.DENIED, rule=rule, leaf=leaf, reason=reason, before=before)
        return Decision(
            verdict=Verdict.ALLOWED,
            rule=rule,
            leaf=leaf,
            password=self._password(rule, asker, settings),
            path=resolved.path,
            tags=_tags_in_force(rule, leaf, settings) if whole else (),
            before=before,
            conditions=conditions,
        )

    def resolved(self, question: Question) -> tuple[Target, ResolvedCommand]:
        """Return a question as sudo sees it: the accounts behind the names, and where the command was found."""
        asker = self._asker(question)
        return asker.target, self._command(question, asker)

    def _asker(self, question: Question) -> _Asker:
        key = (question.account, question.run_as, question.run_as_group)
        known = self._askers.get(key)
        if known is None:
            target = self._target(self._account(question.account), question)
            settings = self._settings_for(target)
            exempt = self._exempt(target.who, settings)
            search = None if exempt else settings.value("secure_path")
            candidates = Candidates(self._about_target(target), self._leaves, files_known=self._files.known)
            if len(self._askers) >= _MOST_ASKERS:
                self._askers.clear()
            known = self._askers[key] = _Asker(target, settings, search, exempt, candidates)
        return known

    def _command(self, question: Question, asker: _Asker) -> ResolvedCommand:
        words = question.command
        if question.folder is not None and "/" in words[0] and not words[0].startswith("/"):
            words = (normpath(f"{question.folder}/{words[0]}"), *words[1:])
        return resolve_command(words, asker.search or question.path or USUAL_PATH, self._files, self._paths)

    def depends(self, question: Question) -> Iterator[str]:
        """Yield what the file that a command means depends on and the question does not state."""
        word = question.command[0]
        if "/" in word and not word.startswith(("/", "^")) and question.folder is None:
            yield f"{word} is a file of the folder that sudo is started in, which is not stated"
        searched = "/" not in word and word not in ("sudoedit", "list", "") and question.path is None
        if searched and not self._asker(question).search:
            yield f"{word} is looked for in the PATH of {question.account}, which is not stated; taken is {USUAL_PATH}"

    # -- who and as whom ---------------------------------------------------------------------------------------------------------

    def _account(self, name: str) -> Identity:
        """Return an account as sudo sees it; always the same object for a name, by which answers are kept."""
        if name not in self._accounts:
            who = self._policy.population.by_name.get(name)
            if who is None:
                raise UnknownNameError(f'there is no account "{name}"')
            self._accounts[name] = self._policy.population.as_invoker(who)
        return self._accounts[name]

    def _target(self, who: Identity, question: Question) -> Target:
        group = None if question.run_as_group is None else self._group(question.run_as_group)
        default = self._early(who).value("runas_default") or "root"
        if question.run_as is not None:
            return Target(who, self._named(question.run_as, who), group, user_given=True, default=default)
        if group is not None:
            return Target(who, self._policy.population.by_name.get(who.name, who), group, user_given=False, default=default)
        return Target(who, self._named(default, who), None, user_given=False, default=default)

    def _early(self, who: Identity) -> Settings:
        """Return the options that sudo applies before it knows the target: runas_default and a few more."""
        key = ("early", id(who))
        if key not in self._settings:
            early = [one for one in self._policy.facts.defaults if one.option in EARLY and one.scope is not DefaultScope.RUNAS]
            nobody = Target(who, who, None, user_given=False)
            self._settings[key] = Settings({one.option: one for one in early if self._applies(one, nobody)})
        return self._settings[key]

    def _named(self, name: str, who: Identity) -> Identity:
        found = self._policy.population.by_name.get(name)
        if found is None and name.startswith("#") and name[1:].isdecimal() and len(name) <= 11:
            number = int(name[1:])
            found = self._policy.population.by_uid(number)
            if found is None:
                return _unknown_id(name, number, who.gid)
        if found is None:
            raise UnknownNameError(f'there is no account "{name}" to run as')
        return found

    def _group(self, name: str) -> tuple[str, int]:
        for group in self._policy.population.groups:
            if name in {group.name, f"#{group.gid}"}:
                return group.name, group.gid
        raise UnknownNameError(f'there is no group "{name}" to run as')

    # -- options -----------------------------------------------------------------------------------------------------------------

    def _settings_for(self, target: Target) -> Settings:
        key = (id(target.who), target.user.name, target.group, target.user_given)
        if key not in self._settings:
            defaults = self._policy.facts.defaults
            self._settings[key] = Settings({one.option: one for one in defaults if self._applies(one, target)})
        return self._settings[key]

    def _applies(self, default: SudoDefault, target: Target) -> bool:
        return applies(self._policy, default, target.who, lambda members: run_as_matches(self._policy, members, None, target) is True)

    def _for_command(self, settings: Settings, resolved: ResolvedCommand) -> Settings:
        """Return the options with those that are bound to the command, which come last of all."""
        entries = {default.option: default for default in self._bound if self._command_list(default.binding, settings, resolved)}
        return Settings({**settings.entries, **entries}) if entries else settings

    def _command_list(self, members: Sequence[Member], settings: Settings, resolved: ResolvedCommand) -> bool:
        fast, refuse = _on_files(settings)
        for member in reversed(members):
            for leaf in leaves(self._policy, member):
                if command_matches(leaf.command, resolved, self._files, fast=fast, refuse=refuse):
                    return leaf.allowed
        return False

    # -- rules -------------------------------------------------------------------------------------------------------------------

    def _matching(self, asker: _Asker, settings: Settings, resolved: ResolvedCommand, now: datetime) -> Iterator[tuple[SudoRule, Leaf]]:
        """Yield the rules that say yes or no, the one that decides first."""
        files, rules, timed = self._files, self._policy.facts.rules, self._timed
        fast, refuse = _on_files(settings)
        answered = -1  # of a rule the first command that matches answers
        for _, index, leaf in asker.candidates.of(resolved.path):
            if index == answered or (index in timed and not timed[index].in_time(now)):
                continue
            if command_matches(leaf.command, resolved, files, fast=fast, refuse=refuse):
                answered = index
                yield rules[index], leaf

    def _about_target(self, target: Target) -> Iterator[int]:
        """Yield the rules that are about an account, this host and a target, last first."""
        rules = self._policy.facts.rules
        for index in self._about_account(target.who):
            if run_as_matches(self._policy, rules[index].run_as_users, rules[index].run_as_groups, target) is True:
                yield index

    def _about_account(self, who: Identity) -> list[int]:
        """Return the rules that are about an account on this host, last first."""
        if id(who) not in self._about:
            rules = self._policy.facts.rules
            hosts: dict[int, bool] = {}
            found = []
            for index in range(len(rules) - 1, -1, -1):
                match = self._policy.users(rules[index].users, who)
                if match is None or not match.allowed or match.conditions:
                    continue
                key = id(rules[index].hosts)
                if key not in hosts:
                    on = self._policy.hosts(rules[index].hosts)
                    hosts[key] = on is not None and on.allowed and not on.conditions
                if hosts[key]:
                    found.append(index)
            self._about[id(who)] = found
        return self._about[id(who)]

    # -- passwords ---------------------------------------------------------------------------------------------------------------

    def _exempt(self, who: Identity, settings: Settings) -> bool:
        group = settings.value("exempt_group")
        return group is not None and self._policy.in_group(group, who) is True

    def _password(self, rule: SudoRule, asker: _Asker, settings: Settings) -> bool:
        """Return whether sudo asks for a password; of options that are bound to the command anew, else once for each rule."""
        if settings is not asker.settings:
            return self._asks_password(rule, asker.target, settings)
        known = asker.passwords.get(id(rule))
        if known is None:
            known = asker.passwords[id(rule)] = self._asks_password(rule, asker.target, settings)
        return known

    def _asks_password(self, rule: SudoRule, target: Target, settings: Settings) -> bool:
        """Return whether sudo asks for a password (check_user): not of root, not of an account that stays what it is."""
        who, tag = target.who, rule.tag(Tag.PASSWD)
        wanted = settings.on("authenticate") if tag is None else tag
        if not wanted or self._exempt(who, settings):
            return False
        oneself = rule.run_as_users is not None and any(member.kind is MemberKind.MYSELF for member in rule.run_as_users)
        stays = (oneself or target.user.uid == who.uid) and (target.group is None or self._policy.in_group(target.group[0], who) is True)
        confined = rule.options.role or rule.options.type or settings.value("role") or settings.value("type")
        return bool(confined) or not (who.uid == 0 or stays)


def _first_certain(
    matching: Iterator[tuple[SudoRule, Leaf]], resolved: ResolvedCommand
) -> tuple[tuple[SudoRule, Leaf] | None, tuple[str, ...]]:
    """Return the rule that decides, with what that depends on: a ban that hangs on a masked secret denies nothing for certain."""
    conditions: list[str] = []
    for rule, leaf in matching:
        if not depends_on_mask(leaf.command, resolved):
            return (rule, leaf), tuple(conditions)
        if leaf.allowed:
            return (rule, leaf), (*conditions, f"the masked argument is the one that the rule at {rule.place.in_file()} names")
        conditions.append(f"the masked argument is not the one that the rule at {rule.place.in_file()} denies")
    return None, tuple(conditions)


def _on_files(settings: Settings) -> tuple[bool, Callable[[int], bool] | None]:
    """Return whether patterns are held against spellings alone (fast_glob), and which files are refused by their mode (intercept)."""
    refused = settings.on("intercept") and not settings.on("intercept_allow_setid")
    return settings.on("fast_glob"), _is_setid if refused else None


def _is_setid(mode: int) -> bool:
    return bool(mode & 0o6000)


def _unknown_id(name: str, number: int, gid: int | None) -> Identity:
    return Identity(
        name=name, uid=number, gid=gid, kind=AccountKind.SYSTEM, login=Login.UNKNOWN, password=None, memberships=(), account=None
    )


def _tags_in_force(rule: SudoRule, leaf: Leaf, settings: Settings) -> tuple[tuple[Tag, bool], ...]:
    """Return every tag with what is in force: as stated, else by the option of its name; ALL implies SETENV."""
    options = {
        Tag.EXEC: "noexec",
        Tag.SETENV: "setenv",
        Tag.INTERCEPT: "intercept",
        Tag.LOG_INPUT: "log_input",
        Tag.LOG_OUTPUT: "log_output",
    }
    told = []
    for tag, option in options.items():
        stated = rule.tag(tag)
        on = settings.on(option)
        if stated is not None:
            on = stated
        elif tag is Tag.EXEC:
            on = not on
        elif tag is Tag.SETENV and rule.command.kind is MemberKind.ALL and leaf.allowed:
            on = True
        told.append((tag, on))
    return tuple(told)
