"""What is kept of hosts, for one pass over evidence: recalled before anything is judged, noted afterwards.

Knows keys and types; where the bytes are kept is the business of an `AnswerStore`, such as a ledger.
"""

from collections import deque
from collections.abc import Callable, Iterable, Mapping, Sequence
from hashlib import blake2b
from typing import TypeVar

from msgspec.structs import replace

from fidelitas.conclusions.holders import HoldersInBrief, KeptHolders, NestingOf, encode_holders
from fidelitas.conclusions.remembered import RememberedHost
from fidelitas.conclusions.rules import rules_digest
from fidelitas.conclusions.typed import FINDINGS, AnswerStore, Conclusion, ConclusionError, Share, decode, encode
from fidelitas.facts import DirectorySource
from fidelitas.findings import Finding
from fidelitas.judging import Context
from fidelitas.rights import Holding, HostRights, Principal
from fidelitas.rights.accounts.identity import AccountInBrief
from fidelitas.rights.accounts.nesting import Nesting
from fidelitas.rights.estate.overlay import HostOverlay
from fidelitas.rights.estate.renaming import renamed
from fidelitas.rights.graph.full_control import FullControl

__all__ = ["Recollection"]

T = TypeVar("T")

# Who holds what is read of so many hosts at once, and held of so many.
_READ_AT_ONCE, _MOST_HELD = 50, 700
# So many hosts are recalled at once.
_MANY = 1000
# What was noted is written once it is as much.
_MUCH, _MUCH_BYTES = 500, 8 << 20


class Recollection:
    """What is known of hosts by the directories of a context; `judge` judges one by its name."""

    def __init__(self, store: AnswerStore, context: Context, judge: Callable[[str], HostRights]) -> None:
        self._store, self._context, self._judge = store, context, judge
        self._marks = store.marks()
        self._basis = _digest(rules_digest(), self._taken_from_directories())
        self._known: dict[str, RememberedHost | None] = {}
        self._conclusions: dict[bytes, Conclusion | None] = {}
        self._twins: dict[bytes, RememberedHost] = {}
        self._holdings: dict[tuple[bytes, str], tuple[Holding, ...]] = {}
        self._briefs: dict[tuple[bytes, Principal], AccountInBrief | None] = {}
        self._contents: dict[bytes, bytes | None] = {}  # who holds what, as it is kept: the last that were read
        self._in_brief: dict[bytes, HoldersInBrief | None] = {}
        self._holders: dict[bytes, KeptHolders | None] = {}
        self._principals: dict[Principal, Principal] = {}  # one object of each that are equal
        self._judged: deque[RememberedHost] = deque()  # the last that were judged again
        self._controls: dict[bytes, FullControl | None] = {}
        self._unread: dict[tuple[bytes, bytes], bytes | None] = {}  # what comes next, as it is kept, by sort and key of the host
        self._new: dict[bytes, bytes] = {}  # to be written
        self._unkept: dict[bytes, bytes] = {}  # what could not be written

    def _taken_from_directories(self) -> bytes:
        """Return a digest of all that hosts take from a directory: what else changes in it, such as last log-ins, is nothing to them."""
        takings = self._context.takings
        found = [len(takings.directories).to_bytes(4, "big")]
        for nesting in takings.plain:
            named = self._marks.get(nesting.directory.subject)
            found.append(encode(nesting.directory) or (named.digest if named is not None else b"unknown"))
        found += [takings.digest()] if takings.directories else []
        return _digest(*found) if len(found) > 1 else b""

    def _get(self, keys: Iterable[bytes]) -> dict[bytes, bytes]:
        wanted = set(keys)
        here = {key: content for known in (self._unkept, self._new) for key in wanted & known.keys() for content in [known[key]]}
        return {**self._store.get(wanted - here.keys()), **here} if len(here) < len(wanted) else here

    # -- recalled ----------------------------------------------------------------------------------------------------------------

    def recall(self, names: Sequence[str]) -> dict[str, RememberedHost]:
        """Return those of some hosts of which conclusions are kept."""
        unasked = {self._key(name): name for name in names if name not in self._known and name in self._marks}
        kept = self._shares_of(list(unasked))
        shares = {key: share if share is not None and share.holds_for(self._marks[unasked[key]]) else None for key, share in kept.items()}
        self._read_conclusions({share.like for share in shares.values() if share is not None})
        for key, name in unasked.items():
            share = shares.get(key)
            conclusion = self._conclusions.get(share.like) if share is not None else None
            self._known[name] = self._remembered(name, share, conclusion) if share is not None and conclusion is not None else None
        return {name: host for name in names if (host := self._known.get(name)) is not None}

    def _shares_of(self, keys: Sequence[bytes]) -> Mapping[bytes, Share | None]:
        """Return what is kept under some keys of hosts; of thousands all at once, where the same were asked for before."""
        together = _digest(b"shares", *keys) if len(keys) >= _MANY else None
        content = self._get([together]).get(together) if together is not None else None
        at_once = _read(content, list[Share]) if content is not None else None
        if at_once is not None and len(at_once) == len(keys):
            return dict(zip(keys, at_once, strict=True))
        found = {key: _read(content, Share) for key, content in self._get(keys).items()}
        known = [share for key in keys if (share := found.get(key)) is not None]
        if together is not None and len(known) == len(keys):
            self._put(together, known)
        return found

    def _remembered(self, name: str, share: Share, conclusion: Conclusion) -> RememberedHost:
        host = RememberedHost(name, self._marks[name].taken, share, conclusion, self, lambda: self._judge(name))
        host.twin = self._twins.setdefault(share.like, host)
        return host

    def _read_conclusions(self, likes: Iterable[bytes]) -> None:
        wanted = {_digest(b"conclusion", like): like for like in likes if like not in self._conclusions}
        found = self._get(wanted)
        self._conclusions |= {like: _read(found[key], Conclusion) if key in found else None for key, like in wanted.items()}

    def holdings_of(self, like: bytes, holder: str) -> tuple[Holding, ...] | None:
        """Return what a holder holds on the host of a key, or ``None`` where that is not kept."""
        if (like, holder) not in self._holdings:
            if self._holds_nothing(like, holder):
                return ()
            kept = self.holders_of(like)
            if kept is None:
                return None
            conclusion = self._conclusions.get(like)
            alike = conclusion is None or holder not in conclusion.names
            self._holdings[like, holder] = found = kept.holdings_of(holder, alike=alike)
            self._briefs |= {(like, held.principal): kept.in_brief(held.principal) for held in found}
        return self._holdings[like, holder]

    def _holds_nothing(self, like: bytes, holder: str) -> bool:
        """Return whether the begin of what is kept of a host says that someone holds nothing on it."""
        brief = self._brief_of(like) if like not in self._holders else None
        return brief is not None and not brief.may_hold(holder)

    def called(self, like: bytes, holder: str, *, alike: bool) -> Sequence[str] | None:
        """Return whom a host takes of a directory that a name can mean, or ``None`` where that is not kept."""
        known = self._holders.get(like) or self._brief_of(like)
        return None if known is None else known.called(holder, alike=alike)

    def in_brief(self, like: bytes, principal: Principal) -> AccountInBrief | None:
        """Return what a list of holders shows of a holder that was asked about on the host of a key; raises `KeyError` of another."""
        return self._briefs[like, principal]

    def holders_of(self, like: bytes) -> KeptHolders | None:
        """Return who holds what on the host of a key, or ``None`` where that is not kept."""
        if like not in self._holders:
            content = self._holders_content(like)
            self._contents.pop(like, None)  # it is made of that
            _make_room(self._holders)
            self._holders[like] = None if content is None else self._kept_of(KeptHolders, content)
        return self._holders[like]

    def _brief_of(self, like: bytes) -> HoldersInBrief | None:
        if like not in self._in_brief:
            content = self._holders_content(like)
            _make_room(self._in_brief)
            self._in_brief[like] = None if content is None else self._kept_of(HoldersInBrief, content)
        return self._in_brief[like]

    def _holders_content(self, like: bytes) -> bytes | None:
        if like not in self._contents:
            _make_room(self._contents)
            self._contents[like] = self._content_of(b"holders", like)
        return self._contents[like]

    def full_control_of(self, like: bytes) -> FullControl | None:
        """Return who has full control of the host of a key, or ``None`` where that is not kept."""
        if like not in self._controls:
            content = self._content_of(b"control", like)
            found = None if content is None else _read(content, FullControl)
            self._controls[like] = None if found is None else self._with_one_of_each(found)
        return self._controls[like]

    def _with_one_of_each(self, control: FullControl) -> FullControl:
        """Return the same with one object for each holder: thousands of hosts have those of a directory, and are put together."""
        one_of = self._principals.setdefault
        granted, obtaining = (frozenset([one_of(one, one) for one in some]) for some in (control.granted, control.obtaining))
        return replace(control, granted=granted, obtaining=obtaining)

    def note_full_control(self, like: bytes, found: FullControl) -> None:
        """Keep that."""
        self._controls[like] = found
        self._put(_digest(b"control", like), found)
        self.flush_much()

    def _content_of(self, sort: bytes, like: bytes) -> bytes | None:
        """Return what is kept of a sort of the host of a key: hosts are asked one after another, and some are read at once."""
        if (sort, like) not in self._unread:
            coming = list(self._twins)
            at = coming.index(like) if like in self._twins else len(coming)
            asked = {one: _digest(sort, one) for one in (like, *coming[at + 1 : at + _READ_AT_ONCE])}
            found = self._get(asked.values())
            others = {key: content for key, content in self._unread.items() if key[0] != sort}
            self._unread = others | {(sort, one): found.get(key) for one, key in asked.items()}
        return self._unread.pop((sort, like))

    def _kept_of(self, kind: Callable[[bytes, NestingOf], T], content: bytes) -> T | None:
        try:
            return kind(content, self._nesting_of)
        except ConclusionError:
            return None

    def _nesting_of(self, sources: tuple[DirectorySource, ...], host: str) -> Nesting | None:
        found = self._context.takings.of(sources, host)
        return None if found is None else found[0]

    def note_judged(self, host: RememberedHost) -> None:
        """Hold that a host was judged again: of many hosts the first are to forget it."""
        self._judged.append(host)
        if len(self._judged) > _MOST_HELD:
            self._judged.popleft().forget()

    def findings_of(self, host: RememberedHost) -> list[Finding] | None:
        """Return the findings on a host, or ``None`` where they are not kept."""
        content = self._content_of(b"findings", host.key)
        found = None if content is None else _read(content, FINDINGS)
        return None if found is None else list(renamed(found, host.conclusion.summary.subject, host.subject))

    # -- noted -------------------------------------------------------------------------------------------------------------------

    def note(self, host: HostRights) -> None:
        """Keep what was concluded of a host; nothing of one where something went wrong unexpectedly."""
        if host.troubles or host.subject not in self._marks or isinstance(host, RememberedHost):
            return
        first = host.first if isinstance(host, HostOverlay) else host
        like = self._like(first)
        self._put(self._key(host.subject), Share(like=like, host_name=host.host_name, span=host.span, only=self._only(host)))
        if first is host:
            self._put(_digest(b"conclusion", like), self._conclusion(host))
            holders = encode_holders(host)
            if holders is not None:
                self._new[_digest(b"holders", like)] = holders

    def note_findings(self, host: HostRights, found: Sequence[Finding]) -> None:
        """Keep the findings on a host, under the name of the host that was judged; none where a check failed."""
        if host.troubles or host.subject not in self._marks:
            return
        if isinstance(host, RememberedHost):
            self._put(_digest(b"findings", host.key), renamed(tuple(found), host.subject, host.conclusion.summary.subject))
        else:
            self._put(_digest(b"findings", self._like(host)), tuple(found))

    def flush(self) -> None:
        """Write what was noted."""
        if self._new:
            if not self._store.put(self._new, rules_digest()):
                self._unkept |= self._new
            self._new = {}

    def flush_much(self) -> None:
        """Write what was noted where that is a lot: of thousands of hosts it need not be held."""
        if len(self._new) >= _MUCH and sum(map(len, self._new.values())) >= _MUCH_BYTES:
            self.flush()

    # -- from other processes ----------------------------------------------------------------------------------------------------

    def shares(self, names: Iterable[str], count: int) -> list[list[str]]:
        """Return hosts in so many lists, or fewer: those whose files are equal in one, since the first of them speaks for the others."""
        alike: dict[bytes, list[str]] = {}
        for name in names:
            alike.setdefault(self._marks[name].frame if name in self._marks else name.encode(), []).append(name)
        found: list[list[str]] = [[] for _ in range(min(count, len(alike)))]
        for number, some in enumerate(alike.values()):
            found[number % len(found)] += some
        return found

    def taken(self) -> dict[bytes, bytes]:
        """Return what was noted, to be learned in another process; it is not written here."""
        new, self._new = self._new, {}
        return new

    def learn(self, kept: Mapping[bytes, bytes]) -> None:
        """Take what another process has noted."""
        self._new |= kept
        self._known = {name: host for name, host in self._known.items() if host is not None}
        self._conclusions = {like: one for like, one in self._conclusions.items() if one is not None}
        self._holders = {like: one for like, one in self._holders.items() if one is not None}
        self._controls = {like: one for like, one in self._controls.items() if one is not None}
        self._unread = {}

    def _conclusion(self, host: HostRights) -> Conclusion:
        local = {who.name for who in host.population.effective if not who.of_directory}
        groups = {f"%{group.name}" for group in host.facts.groups}
        own = dict(host.account_states())
        return Conclusion(
            taken_by=host.taken_by,
            live=host.live,
            gaps=host.gaps,
            summary=host.summary,
            names=frozenset(local | groups),
            accounts=own,
            comments={name: comment for name, comment in host.comments() if comment and name in own},
        )

    def _put(self, key: bytes, value: object) -> None:
        content = encode(value)
        if content is not None:
            self._new[key] = content

    def _key(self, name: str) -> bytes:
        return _digest(b"host", self._basis, name.encode(), self._marks[name].stated)

    def _like(self, host: HostRights) -> bytes:
        """Return the key of what is concluded of a host that was judged: it differs where a date has passed, or processes are cited."""
        only, span = self._only(host), repr(host.span)
        return _digest(self._key(host.subject), span.encode(), only or b"")

    def _only(self, host: HostRights) -> bytes | None:
        """Return the digest of a host's evidence where what is concluded cites the processes of that moment."""
        return self._marks[host.subject].digest if host.cites_processes else None


def _digest(*parts: bytes) -> bytes:
    digest = blake2b(digest_size=24)
    for part in parts:
        digest.update(len(part).to_bytes(8, "little") + part)
    return digest.digest()


def _make_room(held: dict[bytes, T]) -> None:
    """Let the first of some that are held go, where they are many."""
    while len(held) >= _MOST_HELD:
        del held[next(iter(held))]


def _read(content: bytes, kind: type[T]) -> T | None:
    try:
        return decode(content, kind)
    except ConclusionError:
        return None
