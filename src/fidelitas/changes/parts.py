"""What changed on one subject, and what became of its accounts."""

from collections.abc import Iterable
from enum import StrEnum

from msgspec import Struct, field

from fidelitas.changes.subject import RightChange
from fidelitas.facts import Gap
from fidelitas.findings import Finding

__all__ = ["AccountChange", "AccountTurn", "SubjectChanges"]


class AccountTurn(StrEnum):
    """What became of an account."""

    NEW = "new"
    GONE = "gone"
    ENABLED = "enabled"
    DISABLED = "disabled"


class AccountChange(Struct, frozen=True, kw_only=True):
    """An account that is new or gone, or that can be used again, or no longer."""

    subject: str
    account: str
    turn: AccountTurn


class SubjectChanges(Struct):
    """What changed in rights, findings and accounts, and what could be read before and now cannot."""

    rights: list[RightChange] = field(default_factory=list)
    new_findings: list[Finding] = field(default_factory=list)
    gone_findings: list[Finding] = field(default_factory=list)
    accounts: list[AccountChange] = field(default_factory=list)
    less_read: list[Gap] = field(default_factory=list)

    def add(self, parts: Iterable["SubjectChanges"]) -> None:
        """Add what changed on others."""
        for part in parts:
            self.rights.extend(part.rights)
            self.new_findings.extend(part.new_findings)
            self.gone_findings.extend(part.gone_findings)
            self.accounts.extend(part.accounts)
            self.less_read.extend(part.less_read)
