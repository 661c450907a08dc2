"""Which account a connection gets: a block, and the JSON document `admission`."""

from fidelitas.doors import Admission
from fidelitas.reports.blocks import Block, Row
from fidelitas.reports.places import place_document
from fidelitas.reports.report import Report

__all__ = ["admission_report"]


def admission_report(server: str, user: str, address: str, found: Admission) -> Report:
    """Return what becomes of a connection of a user from an address."""
    where = "by its socket" if address == "socket" else f"from {address}"
    headline = f"{user} {where} gets {found.account} on {server}" if found.account else f"{user} {where} is refused by {server}"
    rows = [Row(found.why)]
    if found.place is not None:
        rows.append(Row(str(found.place), indent=4))
    if found.method:
        rows.append(Row(f"must prove who it is by: {found.method}"))
    if found.others:
        rows.append(Row(f"does not get {', '.join(found.others)}"))
    return Report(
        parts=lambda: [Block(headline, tuple(rows), style="bold" if found.account else "bold red")],
        onward=lambda: [f"fidelitas account {found.account.partition('@')[0]} --on {server}"] if found.account else [],
        document=lambda: {
            "schema": "fidelitas/admission/1",
            "subject": server,
            "user": user,
            "address": address,
            "account": found.account,
            "method": found.method,
            "why": found.why,
            "place": place_document(found.place) if found.place else None,
            "others": list(found.others),
        },
    )
