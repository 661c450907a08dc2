"""Since when a right is held, and by whose doing: the log events that gave a membership, made an account, or edited a policy file."""

from msgspec import Struct, field

from fidelitas.facts import Change, EventKind
from fidelitas.usage.meanings import meaning_of
from fidelitas.usage.persons import AttributedEvent
from fidelitas.usage.sensitive_targets import SensitiveTarget, edited_paths

__all__ = ["Grants"]

_MOST = 10_000


class Grants(Struct):
    """What the logs of one host tell of how rights came about; of each thing the latest."""

    memberships: dict[tuple[str, str], AttributedEvent] = field(default_factory=dict)  # by group and account
    accounts: dict[str, AttributedEvent] = field(default_factory=dict)
    files: dict[str, AttributedEvent] = field(default_factory=dict)  # by path
    removals: dict[tuple[str, str], AttributedEvent] = field(default_factory=dict)  # from a group, by group and account
    deletions: dict[str, AttributedEvent] = field(default_factory=dict)  # of accounts

    def add(self, record: AttributedEvent) -> None:
        """Take an action, if it gave or took anything."""
        event = record.event
        if event.doubt:
            return
        if event.kind is EventKind.CHANGED:
            self._change(record)
        elif event.kind is EventKind.USED and SensitiveTarget.POLICY in meaning_of(event).targets:
            for path in edited_paths(event.command, event.folder):
                if path in self.files or len(self.files) < _MOST:
                    self.files[path] = record

    def _change(self, record: AttributedEvent) -> None:
        event = record.event
        if event.change is Change.MEMBER_ADDED and event.group and len(self.memberships) < _MOST:
            self.memberships[event.group, event.target] = record
        elif event.change is Change.MEMBER_REMOVED:
            self.memberships.pop((event.group, event.target), None)
            if len(self.removals) < _MOST:
                self.removals[event.group, event.target] = record
        elif event.change is Change.MEMBERS_SET:
            for member in event.target.split(","):
                self.memberships.setdefault((event.group, member), record)
        elif event.change is Change.ACCOUNT_CREATED and len(self.accounts) < _MOST:
            self.accounts[event.target] = record
        elif event.change is Change.ACCOUNT_DELETED:
            self.accounts.pop(event.target, None)
            if len(self.deletions) < _MOST:
                self.deletions[event.target] = record

    def of_membership(self, group: str, account: str) -> AttributedEvent | None:
        """Return what put an account into a group."""
        return self.memberships.get((group, account))

    def of_removal(self, group: str, account: str) -> AttributedEvent | None:
        """Return what took an account out of a group: that was done to it, or it was deleted."""
        return self.removals.get((group, account)) or self.deletions.get(account)

    def of_file(self, path: str) -> AttributedEvent | None:
        """Return the last known edit of a policy file, by its path or that of its folder."""
        return self.files.get(path) or self.files.get(path.rpartition("/")[0] + "/")
