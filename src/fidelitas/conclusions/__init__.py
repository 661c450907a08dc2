"""Conclusions: what was worked out of evidence, kept so that a question is not worked out twice.

A conclusion is kept under a key of all that it follows from: the evidence, the directories that the host takes accounts from, and the rules
(`rules`).  Other rules give other keys, so answers of one version are never mixed into those of another.  `typed` is its form, `remembered`
a host that answers from it, and judges the evidence where it does not know.
"""

from fidelitas.conclusions.directories import keep_directory, kept_directory
from fidelitas.conclusions.recollection import Recollection
from fidelitas.conclusions.remembered import RememberedHost
from fidelitas.conclusions.typed import AnswerStore

__all__ = ["AnswerStore", "Recollection", "RememberedHost", "keep_directory", "kept_directory"]
