"""Who may write what by the access rules of an OpenLDAP server: slapd.access(5).

Of the rules that are about an object and attribute the first counts, and in it the first clause that an account is in; the root of a
database may everything.  What cannot be decided (a filter, an expression, a set) is a condition.
"""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from msgspec.structs import replace

from fidelitas.distinguished_names import folded
from fidelitas.facts import DirectoryAccount, DirectoryFacts, Place, ServerBy, ServerRule, ServerRules, StatedGroup, Who
from fidelitas.rights.directory.objects import Objects, Thing
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, Right, Strength

__all__ = ["ServerAccess"]

_UNDECIDED = "if the rule at {} is not about it: whether it is cannot be decided here"
_OF_NAMES = "memberuid"
# What one may do to an attribute, by rule and clause: nothing, or some letters of `ServerBy`.
_Held = tuple[str, ServerRule, bool]
_Allowed = Mapping[Principal, _Held]


class ServerAccess:
    """What the access rules of a server amount to."""

    def __init__(self, facts: DirectoryFacts, objects: Objects) -> None:
        self._facts, self._objects = facts, objects
        self._listed: dict[str, frozenset[str]] = {}
        self._decided: dict[tuple[int, str, str, bool], _Allowed] = {}

    @property
    def known(self) -> bool:
        """Whether the rules of the server are in evidence."""
        return bool(self._facts.control.servers)

    def undecided(self) -> Iterator[ServerRule]:
        """Yield the rules that let someone write who is not known here: by an attribute of the object, an expression, a set, a filter."""
        for rule in (rule for server in self._facts.control.servers for rule in server.rules):
            if any(by.allows and by.sign != "-" and (by.who is Who.UNKNOWN or not rule.known) for by in rule.by):
                yield rule

    def over(self, thing: Thing, target: Principal) -> Iterator[Link]:
        """Yield who may change the members of a group, or set the password of an account."""
        if isinstance(thing, StatedGroup):
            for attribute in _member_attributes(thing):
                yield from self._links(thing, target, attribute, "a", f"may change the members of {thing.name} ({attribute})")
            own, because = thing.member_attribute.lower(), f"may add itself to {thing.name} ({thing.member_attribute.lower()})"
            if own != _OF_NAMES:  # names are not DNs: such a clause does not apply to them
                yield from self._links(thing, target, own, "a", because, own=True)
        else:
            yield from self._links(thing, target, "userpassword", "az", f"may set the password of {thing.name}")

    def everything(self, right: Right) -> Iterator[Link]:
        """Yield who may write the whole of a database: its root, and those to whom a rule about everything allows it."""
        for server in self._facts.control.servers:
            if server.root and server.suffixes:
                root = self._objects.principal(self._account_of(server.root))
                yield self._link(root, right, "is the root of the database (rootdn)", "", server.place)
            for suffix in server.suffixes:
                for who, (allowed, rule, sure) in self._on(server, suffix, "*").items():
                    if "a" in allowed and "z" in allowed:
                        yield self._link(who, right, f"may write every object below {suffix}", rule.text, rule.place, sure=sure)

    def _links(self, thing: Thing, target: Principal, attribute: str, enough: str, because: str, *, own: bool = False) -> Iterator[Link]:
        server = self._server_of(thing.dn)
        for who, (allowed, rule, sure) in self._on(server, thing.dn, attribute, own=own).items() if server is not None else ():
            if set(enough) <= set(allowed) and who != target:
                yield self._link(who, target, because, rule.text, rule.place, sure=sure)

    def _server_of(self, dn: str) -> ServerRules | None:
        """Return the database that an object is in: the one with the longest suffix."""
        key, servers = folded(dn), self._facts.control.servers
        found = [(len(suffix), one) for one in servers for suffix in map(folded, one.suffixes) if _is_below(key, suffix)]
        return max(found, key=lambda one: one[0])[1] if found else None

    def _on(self, server: ServerRules, dn: str, attribute: str, *, own: bool = False) -> _Allowed:
        """Return who may write an attribute of an object, "*" for everything below it; of values that are the `own` DN, or of others."""
        rules = [*server.rules, *(rule for one in self._facts.control.servers if one.general for rule in one.rules)]
        applying = tuple(rule for rule in rules if _is_about(rule, folded(dn), attribute))
        key = (id(server), ",".join(str(id(rule)) for rule in applying), attribute, own)
        if key not in self._decided:
            self._decided[key] = self._walked([rule if own else _of_others(rule) for rule in applying])
        return self._decided[key]

    def _walked(self, rules: Sequence[ServerRule]) -> _Allowed:
        """Return who is allowed what by some rules that are about one thing: everyone, groups whose members all are, others one by one.

        What is allowed to some letter is not the same as to another; a holder is listed with all that he is allowed.
        """
        named = {self._objects.principal(one): self._of_one(rules, one) for one in self._named(rules)}
        everyone = self._of_one(rules, None)
        if everyone is not None and everyone[0]:
            if all(held is not None and set(everyone[0]) <= set(held[0]) for held in named.values()):
                return {self._everyone: everyone, **{who: held for who, held in named.items() if held and held[0] != everyone[0]}}
            named = {self._objects.principal(one): self._of_one(rules, one) for one in self._facts.accounts}
        found = {who: held for who, held in named.items() if held is not None and held[0]}
        for group in self._groups_named(rules):
            held = self._of_one(rules, group)
            members = [self._objects.principal(one) for one in map(self._objects.by_dn.get, self._members_of(group)) if one is not None]
            if held is not None and held[0] and all(one in found and set(held[0]) <= set(found[one][0]) for one in members):
                found = {who: one for who, one in found.items() if who not in members or one[0] != held[0]}
                found[self._objects.principal(group)] = held
        return found

    def _of_one(self, rules: Sequence[ServerRule], who: Thing | None) -> _Held | None:
        """Return what a principal is allowed: an account, one that is only in a group, or with ``None`` one that no clause names."""
        held: _Held | None = None
        doubt = False
        for rule in rules:
            if not rule.known:
                doubt = True
                continue
            ended = "continue"
            for by in rule.by:
                doubt = doubt or by.who is Who.UNKNOWN
                if self._is_in(by, who):
                    held = (_combined(held[0] if held else "", by), rule, by.sure and not doubt)
                    ended = by.control
                    if ended != "continue":
                        break
            if ended == "continue":
                return None  # the clause that ends every rule gives nothing to all
            if ended != "break":
                return held
        return None  # and so does the rule that ends all others

    def _is_in(self, by: ServerBy, who: Thing | None) -> bool:
        """Return whether a clause is about someone; a group stands for an account that is in it and in nothing else."""
        if by.who in (Who.ANYONE, Who.USERS):
            return True
        if who is None:
            return False
        if by.who is Who.GROUP:
            group = self._objects.by_dn.get(folded(by.value))
            return group is who or (isinstance(group, StatedGroup) and folded(who.dn) in self._members_of(group))
        return by.who is Who.DN and isinstance(who, DirectoryAccount) and _fits(folded(who.dn), folded(by.value), by.style)

    def _members_of(self, group: StatedGroup) -> frozenset[str]:
        """Return the DNs that a group lists itself: the server looks no further."""
        key = folded(group.dn)
        if key not in self._listed:
            self._listed[key] = frozenset(folded(dn) for dn, _ in group.members)
        return self._listed[key]

    def _named(self, rules: Sequence[ServerRule]) -> list[DirectoryAccount]:
        """Return the accounts that some clause may name: by a DN, or by a group; of an exact DN one that is not in evidence, too."""
        clauses = [by for rule in rules for by in rule.by]
        if any(by.who is Who.DN and by.style != "exact" for by in clauses):
            named = [one for one in self._facts.accounts if any(self._is_in(by, one) for by in clauses if by.who is Who.DN)]
        else:
            named = [self._account_of(by.value) for by in clauses if by.who is Who.DN]
        for by in clauses:
            group = self._objects.by_dn.get(folded(by.value)) if by.who is Who.GROUP else None
            members = self._members_of(group) if isinstance(group, StatedGroup) else ()
            named += [one for one in map(self._objects.by_dn.get, sorted(members)) if isinstance(one, DirectoryAccount)]
        return list({id(one): one for one in named}.values())

    def _groups_named(self, rules: Sequence[ServerRule]) -> list[StatedGroup]:
        values = dict.fromkeys(folded(by.value) for rule in rules for by in rule.by if by.who is Who.GROUP)
        return [group for group in map(self._objects.by_dn.get, values) if isinstance(group, StatedGroup)]

    def _account_of(self, dn: str) -> DirectoryAccount:
        thing = self._objects.by_dn.get(folded(dn))
        return thing if isinstance(thing, DirectoryAccount) else self._objects.unseen(dn, Place(self._facts.subject, "entries"))

    @cached_property
    def _everyone(self) -> Principal:
        return self._objects.of_sid("S-1-5-11")

    def _link(self, who: Principal, target: Principal | Right, because: str, quote: str, place: Place, *, sure: bool = True) -> Link:
        conditions = () if sure else (_UNDECIDED.format(place),)
        return Link(
            source=who,
            target=target,
            kind=LinkKind.MAY_BECOME if isinstance(target, Principal) else LinkKind.HAS,
            strength=Strength.CONDITIONAL if conditions else Strength.CERTAIN,
            by=By(Mechanism.PERMISSION),
            because=because,
            quote=quote or None,
            conditions=conditions,
            place=place,
        )


def _of_others(rule: ServerRule) -> ServerRule:
    """Return a rule without the clauses that are about the own DN."""
    return replace(rule, by=tuple(by for by in rule.by if not by.own)) if any(by.own for by in rule.by) else rule


def _combined(before: str, by: ServerBy) -> str:
    """Return what is allowed after a clause: that alone, or added to what was before, or taken from it."""
    if by.sign == "=":
        return by.allows
    kept = set(before) | set(by.allows) if by.sign == "+" else set(before) - set(by.allows)
    return "".join(sorted(kept))


def _member_attributes(group: StatedGroup) -> tuple[str, ...]:
    return (group.member_attribute.lower(), _OF_NAMES) if group.gid is not None else (group.member_attribute.lower(),)


def _is_below(dn: str, above: str) -> bool:
    return dn == above or dn.endswith("," + above) or above == ""


def _fits(dn: str, named: str, style: str) -> bool:
    """Return whether an object is one that a DN and a style name."""
    if style == "exact":
        return dn == named
    if style == "one":
        return dn.partition(",")[2] == named
    return _is_below(dn, named) and (style == "subtree" or dn != named)


def _is_about(rule: ServerRule, dn: str, attribute: str) -> bool:
    """Return whether a rule is about an attribute of an object; one of which that is not known is taken to be, perhaps."""
    if rule.known and not _fits(dn, folded(rule.dn), rule.style):
        return False
    return not rule.attributes or attribute in rule.attributes
