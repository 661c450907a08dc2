"""People across systems: an identity map says whose each account is; what they hold together, and what is nobody's."""

from fidelitas.people.accounts import PersonalAccounts
from fidelitas.people.joined import Joined, Owned, Suggestion, join
from fidelitas.people.map import MappedPerson, read_map
from fidelitas.people.owners import Owners

__all__ = ["Joined", "MappedPerson", "Owned", "Owners", "PersonalAccounts", "Suggestion", "join", "read_map"]
