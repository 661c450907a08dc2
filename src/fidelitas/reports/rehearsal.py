"""What a rehearsed change would do: as blocks, and as the JSON document `rehearsal`."""

from collections.abc import Mapping, Sequence
from typing import Any

from fidelitas.changes import HeldChange
from fidelitas.charter import Sanctions
from fidelitas.facts import Gap, Place
from fidelitas.memberships import Absent, MembershipEdit, Plan
from fidelitas.rehearsal import Effect, LockOut, LockOutKind, Rehearsal, Rehearsed, effect_of
from fidelitas.replay import Replay
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.documents import holding_document
from fidelitas.reports.numbers import counted
from fidelitas.reports.replay import replay_blocks, replay_document
from fidelitas.reports.report import Report
from fidelitas.reports.sentences import brief, mechanism
from fidelitas.rights import Holding, Mechanism, PrincipalKind, SubjectRights

__all__ = ["lock_out_words", "rehearsal_report"]

_MOST_PLACES = 8


def rehearsal_report(
    rehearsed: Rehearsed,
    replays: Sequence[Replay],
    errors: Sequence[Gap],
    texts: Mapping[str, str],
    names: Mapping[str, str],
    charter: Sanctions | None = None,
) -> Report:
    """Return what a change would do, the `errors` of a new policy first.

    `texts` are the files that errors are in, by their path on the host; `names` says what to call the new policy's file.  With a charter,
    each gain that it does not sanction is marked.
    """
    rehearsals, planned = rehearsed.rehearsals, rehearsed.plan
    return Report(
        answer=lambda: _answer(rehearsals, replays, errors),
        parts=lambda: [
            *(_error(one, texts.get(one.place.path), names) for one in errors),
            *(_edits(subject, some) for subject, some in sorted(planned.edits.items())),
            *_absent(planned.absent),
            *_blocks(rehearsals, charter, memberships=bool(planned.edits)),
            *replay_blocks(replays, whole=False),
        ],
        document=lambda: {**_document(rehearsals, planned, errors, names, charter), "replay": replay_document(replays)},
    )


def _answer(rehearsals: Sequence[Rehearsal], replays: Sequence[Replay], errors: Sequence[Gap]) -> list[str]:
    """Return whether the policy has errors or locks everyone out, then how many holders gain and lose rights."""
    locked = [one.after.subject for one in rehearsals if one.locked_out]
    gained, lost, altered = (
        {(one.after.subject, str(change.holding.principal)) for one in rehearsals for change in getattr(one, kind)}
        for kind in ("gained", "lost", "altered")
    )
    refused = sum(use.count for one in replays for use in one.lost)
    parts = [
        f"rights gained by {_holders(gained)}",
        f"lost by {_holders(lost)}",
        f"held on other terms by {_holders(altered)}",
    ]
    return [
        *([f"the new policy has {counted(len(errors), 'error')}"] if errors else []),
        *([f"LOCK-OUT on {' '.join(locked)}: see below"] if locked else []),
        f"{'; '.join(parts)}" + (f"; {counted(refused, 'logged use')} would be refused" if replays else ""),
    ]


def _holders(found: set[tuple[str, str]]) -> str:
    """Return how many hold something by how many names, and on how many subjects where on several."""
    subjects = {subject for subject, _ in found}
    return counted(len({name for _, name in found}), "holder") + (f" on {len(subjects)} subjects" if len(subjects) > 1 else "")


def _error(error: Gap, text: str | None, names: Mapping[str, str]) -> Block:
    """Return an error with the line that it is in and the spot marked."""
    rows = []
    lines = (text or "").split("\n")
    line, column = error.place.line, error.place.column
    if text is not None and line is not None and line <= len(lines):
        shown = lines[line - 1].replace("\t", " ").rstrip("\r")
        rows.append(Row(shown, indent=4))
        if column is not None:
            end = min(column - 1, len(shown))
            begin = min((error.begin or column) - 1, end)
            rows.append(Row("~" * (end - begin) + "^", indent=4 + begin, style="bold red"))
    rows.append(Row(error.weakens))
    where = Place(error.place.subject, names.get(error.place.path, error.place.path), line, column).in_file()
    return Block(f"{where}: {error.why}", tuple(rows), style="bold red")


def lock_out_words(found: LockOut) -> str:
    """Return what a lock-out is, in words: who loses root, and which routes are left."""
    names = ", ".join(found.accounts[:6])
    if found.kind is LockOutKind.SUDO:
        left = sorted({_way_left(holding) for holding in found.left})
        ways = f"routes left: {'; '.join(left[:6])}" if left else "no route to root would be left"
        return f"everyone who can become root by sudo now would lose it ({names}); {ways}"
    return {
        LockOutKind.NOBODY: "nobody could become root",
        LockOutKind.ROOT_ALONE: "nobody but root itself could become root, and root has no password to log in with",
        LockOutKind.NO_LOGIN: f"nobody who can log in could become root; left are {', '.join(found.accounts)}",
    }[found.kind]


def _way_left(holding: Holding) -> str:
    """Return in a few words how an account would still become root."""
    route = holding.routes[0]
    if holding.principal.kind is PrincipalKind.ACCOUNT and route.links[0].mechanism is Mechanism.USER_ID:
        return f"{holding.principal} itself, with its password or a key"
    return f"{holding.principal} ({', '.join(dict.fromkeys(map(mechanism, route.links)))})"


def _edits(subject: str, edits: Sequence[MembershipEdit]) -> Block:
    """Return which groups of a subject each account gains and leaves, with those that it has already, and the commands for it."""
    accounts = dict.fromkeys(edit.account for edit in edits)
    rows = [row for account in accounts for row in _of_account([edit for edit in edits if edit.account == account])]
    made = [edit.command for edit in edits if not edit.already]
    # Records of LDIF are parted by an empty line (RFC 2849).
    commands = ("\n\n" if any("\n" in command for command in made) else "\n").join(made).split("\n") if made else []
    return Block(f"memberships on {subject}", (*rows, *(Row(line, indent=4) for line in commands)))


def _absent(absent: Sequence[Absent]) -> list[Block]:
    """Return what is not given because there is no account to give it to, a row for each account."""
    rows = []
    for account in dict.fromkeys(one.account for one in absent):
        places = [f"{one.subject} ({', '.join(one.groups)})" for one in absent if one.account == account]
        more = f" and {len(places) - _MOST_PLACES} more" if len(places) > _MOST_PLACES else ""
        rows.append(Row(f"{account} has no account on {', '.join(places[:_MOST_PLACES])}{more}"))
    return [Block("not given, without an account there", tuple(rows))] if rows else []


def _of_account(edits: Sequence[MembershipEdit]) -> list[Row]:
    account = edits[0].account.label
    parts = (
        ("gains", [edit for edit in edits if edit.added and not edit.already]),
        ("leaves", [edit for edit in edits if not edit.added and not edit.already]),
        ("is already in", [edit for edit in edits if edit.added and edit.already]),
        ("is not in", [edit for edit in edits if not edit.added and edit.already]),
    )
    return [Row(f"{account} {verb} {', '.join(edit.group.label for edit in some)}") for verb, some in parts if some]


def _blocks(rehearsals: Sequence[Rehearsal], charter: Sanctions | None, *, memberships: bool) -> list[Block]:
    """Return, for each subject, who gains, who loses, and what is held on other terms; a warning first where nobody is left."""
    blocks = []
    same = [one for one in rehearsals if not one.changes and not one.locked_out]
    for one in rehearsals if len(same) == 1 else [one for one in rehearsals if one not in same]:
        if one.locked_out:
            blocks.append(Block(f"LOCK-OUT on {one.after.subject}: {lock_out_words(one.locked_out)}", (), style="bold red"))
        rows = [
            *(row for change in one.gained for row in (_row("gains", change, memberships=memberships), *_unsanctioned(change, charter))),
            *(_row("loses", change, memberships=memberships) for change in one.lost),
            *(_altered(change) for change in one.altered),
        ]
        blocks.append(Block(one.after.subject, tuple(rows) or (Row("nobody's rights change"),)))
    if len(same) > 1:
        blocks.append(Block(f"{len(same)} {'other ' if blocks else ''}subjects", (Row("nobody's rights change"),)))
    return blocks


def _row(verb: str, change: HeldChange, *, memberships: bool) -> Row:
    holding = change.holding
    route = holding.routes[0]
    when = ", from the next logon" if memberships and effect_of(holding) is Effect.NEXT_LOGON else ""
    style = "bold" if verb == "gains" else ""
    return Row(f"{holding.principal} {verb} {holding.right}  ({brief(route)}, {route.place.in_file()}){when}", style=style)


def _unsanctioned(change: HeldChange, charter: Sanctions | None) -> list[Row]:
    if charter is None or charter.allows(change.holding):
        return []
    return [Row("the charter does not sanction this", label="warning:", indent=4, style="bold red")]


def _altered(change: HeldChange) -> Row:
    before, after = change.before, change.after
    if before is None or after is None:
        raise ValueError("an altered holding was held before and after")
    terms = [f"{_terms(one.routes[0].asks)}, {one.strength}" for one in (before, after)]
    return Row(f"{after.principal} holds {after.right} on other terms: {terms[0]} → {terms[1]}  ({after.routes[0].place.in_file()})")


def _terms(asks: str | None) -> str:
    return f"asked for {asks}" if asks else "not asked for a password"


def _change(host: SubjectRights, change: HeldChange, *, memberships: bool) -> dict[str, Any]:
    return {**holding_document(host, change.holding), "effective": effect_of(change.holding) if memberships else None}


def _gained(host: SubjectRights, change: HeldChange, charter: Sanctions | None, *, memberships: bool) -> dict[str, Any]:
    sanctioned = None if charter is None else charter.allows(change.holding)
    return {**_change(host, change, memberships=memberships), "sanctioned": sanctioned}


def _edit(edit: MembershipEdit) -> dict[str, Any]:
    return {
        "subject": edit.subject,
        "account": edit.account.label,
        "group": edit.group.label,
        "added": edit.added,
        "already": edit.already,
        "command": None if edit.already else edit.command,
    }


def _document(
    rehearsals: Sequence[Rehearsal], planned: Plan, errors: Sequence[Gap], names: Mapping[str, str], charter: Sanctions | None
) -> dict[str, Any]:
    return {
        "schema": "fidelitas/rehearsal/1",
        "errors": [
            {
                "path": names.get(error.place.path, error.place.path),
                "line": error.place.line,
                "column": error.place.column,
                "message": error.why,
            }
            for error in errors
        ],
        "memberships": [_edit(edit) for _, some in sorted(planned.edits.items()) for edit in some],
        "absent": [one._asdict() | {"groups": list(one.groups)} for one in planned.absent],
        "subjects": [
            {
                "subject": one.after.subject,
                "lock_out": lock_out_words(one.locked_out) if one.locked_out else None,
                "lock_out_kind": one.locked_out.kind if one.locked_out else None,
                "gained": [_gained(one.after, change, charter, memberships=bool(planned.edits)) for change in one.gained],
                "lost": [_change(one.before, change, memberships=bool(planned.edits)) for change in one.lost],
                "altered": [
                    {"before": holding_document(one.before, change.before), "after": holding_document(one.after, change.after)}
                    for change in one.altered
                    if change.before and change.after
                ],
            }
            for one in rehearsals
        ],
    }
