"""What each account of a subject shows of whose it is: full name, address, numbers, keys."""

from collections.abc import Mapping

from fidelitas.people.suggestions import AccountSigns
from fidelitas.rights import DirectoryRights, HostRights, SubjectRights

__all__ = ["signs_of"]


def signs_of(subject: SubjectRights, comments: Mapping[str, str]) -> dict[str, AccountSigns]:
    """Return the signs of the accounts of a subject, by name; `comments` are what is noted of each."""
    keys: dict[str, list[tuple[str, str]]] = {}
    for account, key in subject.opening_keys:
        keys.setdefault(account, []).append((key.fingerprint, key.comment or ""))
    return {name: _signs(subject, name, comment, keys.get(name, [])) for name, comment in comments.items()}


def _signs(subject: SubjectRights, name: str, comment: str, keys: list[tuple[str, str]]) -> AccountSigns:
    uid, mail, employee = None, "", ""
    if isinstance(subject, HostRights):
        who = subject.account(name)
        uid = who.uid if who is not None else None
    elif isinstance(subject, DirectoryRights) and name in subject.accounts:
        stated = subject.accounts[name]
        uid = stated.posix.uid if stated.posix is not None else None
        mail, employee, comment = stated.mail, stated.employee, comment or stated.full_name
    return AccountSigns(
        subject=subject.subject,
        account=name,
        comment=comment,
        mail=mail,
        employee=employee,
        uid=uid,
        keys=frozenset(fingerprint for fingerprint, _ in keys),
        key_comments=tuple(text for _, text in keys if text),
    )
