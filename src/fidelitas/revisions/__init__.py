"""Revisions of policies: every distinct state of a sudo policy, of PAM, sshd and root's keys; when and where each was seen.

`families` says which files belong together, `seen` gathers the revisions of a history, `standing` compares them with a repository.
"""

from fidelitas.revisions.families import FAMILIES, family_files
from fidelitas.revisions.seen import Revision, Step, gather
from fidelitas.revisions.standing import Commit, Repository, Standing, StandingKind, commits_of, line_changes, standing_of, standings_of

__all__ = [
    "FAMILIES",
    "Commit",
    "Repository",
    "Revision",
    "Standing",
    "StandingKind",
    "Step",
    "commits_of",
    "family_files",
    "gather",
    "line_changes",
    "standing_of",
    "standings_of",
]
