"""What a revision of a policy changed in rights."""

from fidelitas.audit import audit
from fidelitas.changes import RightChange, changes_between
from fidelitas.revisions.seen import Revision

__all__ = ["rights_changed"]


def rights_changed(revision: Revision) -> list[RightChange]:
    """Return what changed in rights where a host went over to a revision, as far as it is by the files of the policy."""
    step = revision.step
    if step is None or revision.before is None:
        return []
    found = changes_between(audit([step.before]), audit([step.after])).rights
    paths = {*revision.files, *revision.before.files}
    return [one for one in found if any(cause.link.place.path in paths for cause in one.causes)]
