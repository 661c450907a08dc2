"""Programs that run with more than their caller's rights, with a verdict each: as a table, and as the JSON document `programs`."""

from collections.abc import Sequence
from typing import Any

from fidelitas.reports.numbers import counted
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table
from fidelitas.rights import HostRights
from fidelitas.rights.linux.programs import Origin, PrivilegedProgram, privileged_programs

__all__ = ["programs_document", "programs_report", "programs_table"]


def programs_report(hosts: Sequence[HostRights]) -> Report:
    """Return the privileged programs of hosts."""
    return Report(
        answer=lambda: [_answer(hosts)],
        parts=lambda: [programs_table(hosts)],
        onward=lambda: ["fidelitas findings programs"],
        document=lambda: programs_document(hosts),
    )


def _answer(hosts: Sequence[HostRights]) -> str:
    """Return how many programs there are, and how many of them need a look."""
    every = [one for host in hosts for one in privileged_programs(host.facts)]
    ranks = [_rank(one) for one in every]
    gives = sum(one.power is not None and one.in_force for one in every)
    rest = ranks.count(0) - gives
    told = [
        f"{gives} give full root" if gives else "",
        f"{rest} changed since installed" if rest else "",
        f"{ranks.count(1)} of unknown use" if ranks.count(1) else "",
    ]
    where = counted(len(hosts), "host")
    return f"{counted(len(every), 'set-id program')} on {where}: {', '.join(part for part in told if part) or 'all as packaged'}"


def programs_table(hosts: Sequence[HostRights]) -> Table:
    """Return one row a program, what stands out first."""
    rows = [(host, one) for host in hosts for one in privileged_programs(host.facts)]
    return Table(
        columns=("subject", "program", "owner", "bits", "origin", "verdict"),
        rows=tuple(_row(host, one) for host, one in sorted(rows, key=lambda row: (_rank(row[1]), row[0].subject, row[1].path))),
        may_fold=frozenset({"program", "bits", "verdict"}),
        empty="No setuid or setgid program and no file capability was found, as far as was searched.",
    )


def _rank(one: PrivilegedProgram) -> int:
    """Return where a program stands in the list: those that need a look come first."""
    if (one.power is not None or one.origin is Origin.CHANGED) and one.in_force:
        return 0
    return 1 if not one.expected else 2


def _row(host: HostRights, one: PrivilegedProgram) -> tuple[str, ...]:
    return (
        host.subject,
        one.path,
        _owner(host, one),
        " ".join(part for part in (f"{one.set_id.mode:04o}" if one.set_id else "", _capabilities(one)) if part),
        one.package.package if one.package else one.origin.value.partition(":")[0],
        "as packaged" if _rank(one) == 2 and one.origin is Origin.PACKAGED and one.in_force else verdict(one),  # why: in the JSON form
    )


def _owner(host: HostRights, one: PrivilegedProgram) -> str:
    if one.set_id is None:
        return "-"
    who = host.population.by_uid(one.set_id.uid)
    group = host.population.group_names.get(one.set_id.gid, str(one.set_id.gid))
    return f"{who.name if who else one.set_id.uid}:{group}"


def _capabilities(one: PrivilegedProgram) -> str:
    """Return the capabilities in the form of cap_to_text(3)."""
    if one.capable is None:
        return ""
    flags = ("e" if one.capable.effective else "") + "p"
    told = f"{','.join(sorted(one.capable.permitted))}={flags}" if one.capable.permitted else ""
    inherited = f"{','.join(sorted(one.capable.inheritable))}+i" if one.capable.inheritable else ""
    root = f" [root uid {one.capable.root_uid}]" if one.capable.root_uid is not None else ""
    return " ".join(part for part in (told, inherited) if part) + root


def verdict(one: PrivilegedProgram) -> str:
    """Return what a program amounts to, in a clause."""
    if not one.in_force:
        return "not in force: its mount honours no such bits (nosuid)"
    if one.power is not None:
        copy = f"a copy of {one.copy_of}; " if one.copy_of else ""
        return f"{copy}gives {'root' if one.as_root else 'its owner'}: {one.power.reason}"
    if one.origin is Origin.CHANGED:
        return "is not what its package brought" + (f"; that {one.expected}" if one.expected else "")
    if one.expected:
        return one.expected
    if one.twin:
        return f"the same as {one.twin}, which {one.checks_caller}" if one.checks_caller else f"the same as {one.twin}"
    if one.is_foreign_copy:
        return f"an older or foreign copy of a program that {one.checks_caller}"
    if one.capabilities:
        return "; ".join(f"{cap.name} {cap.reason}" for cap in one.capabilities)
    return "runs as root; what it does is not known" if one.as_root else "what it does with its right is not known"


def programs_document(hosts: Sequence[HostRights]) -> dict[str, Any]:
    """Return the JSON document: every program, and on each host where the search began and what it skipped."""
    return {
        "schema": "fidelitas/programs/1",
        "hosts": [
            {
                "subject": host.subject,
                "searched": list(host.facts.programs.searched) if host.facts.programs else None,
                "skipped": [{"path": path, "kind": kind} for path, kind in (host.facts.programs.skipped if host.facts.programs else ())],
                "programs": [_document(one) for one in privileged_programs(host.facts)],
            }
            for host in hosts
        ],
    }


def _document(one: PrivilegedProgram) -> dict[str, Any]:
    return {
        "path": one.path,
        "uid": one.set_id.uid if one.set_id else None,
        "gid": one.set_id.gid if one.set_id else None,
        "mode": f"{one.set_id.mode:04o}" if one.set_id else None,
        "capabilities": sorted(one.capable.permitted) if one.capable else [],
        "effective": one.capable.effective if one.capable else None,
        "origin": one.origin.value,
        "package": one.package.package if one.package else None,
        "in_force": one.in_force,
        "as_root": one.as_root,
        "hands_over": one.power is not None,
        "copy_of": one.copy_of or None,
        "verdict": verdict(one),
    }
