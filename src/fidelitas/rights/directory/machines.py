"""What a directory lets someone do to a machine of its domain: become an administrator of it without being one of a group there.

Readers of the password of its local administrator, policies that it obeys, accounts that may act as anyone on it ([MS-SFU]), and accounts
that may decide who that is.  To reset the password of the machine's account does not give the machine: it then trusts the domain no more.
"""

from collections.abc import Iterator

from fidelitas.facts import DirectoryAccount, DirectoryFacts
from fidelitas.rights.directory.accesses import ACTED_FOR, TAKE_OVER, Sort
from fidelitas.rights.directory.control import Control, made_link, sort_of
from fidelitas.rights.directory.names import host_of, names_of
from fidelitas.rights.directory.permissions import Access
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, Right, Strength

__all__ = ["links_to_machine", "password_readers"]

_EXTENDED, _WRITE = 0x100, 0x20
_SERVICE_NAME = "if it also has an account with a service name, such as a machine that it joined to the domain"
_READS = "may read the password of the local administrator of {}, which the directory keeps"


def password_readers(facts: DirectoryFacts, control: Control, machine: DirectoryAccount, right: Principal | Right) -> Iterator[Link]:
    """Yield who may read the password of a machine's local administrator; it is hidden from accounts that may merely read the object."""
    if machine.descriptor is None or not facts.control.password_attributes:
        return
    access = Access(_EXTENDED, facts.control.password_attributes)
    for one in control.permitted(machine.descriptor, access, control.domain_of(machine)):
        yield made_link(one, right, _READS.format(machine.name.rstrip("$")), machine.permissions_at or machine.place)


def links_to_machine(facts: DirectoryFacts, control: Control, machine: DirectoryAccount, right: Right) -> Iterator[Link]:
    """Yield the links that lead to a right on a machine, each holder once, by the surest way."""
    met: set[Principal] = set()
    for link in sorted(_every(facts, control, machine, right), key=lambda link: link.strength):
        if link.source not in met:
            met.add(link.source)
            yield link


def _every(facts: DirectoryFacts, control: Control, machine: DirectoryAccount, right: Right) -> Iterator[Link]:
    yield from password_readers(facts, control, machine, right)
    yield from control.by_its_delegation(machine, right)
    yield from control.by_policies(machine, right)
    yield from _by_services(facts, control, machine, right)
    if machine.descriptor is None or sort_of(machine) is not Sort.MACHINE:
        return
    for row in (ACTED_FOR, *TAKE_OVER):
        for one in control.permitted(machine.descriptor, row.access, control.domain_of(machine)):
            yield made_link(one, right, row.because.format(machine.name), machine.permissions_at or machine.place, _SERVICE_NAME)


def _by_services(facts: DirectoryFacts, control: Control, machine: DirectoryAccount, right: Right) -> Iterator[Link]:
    """Yield the accounts that may call services of the machine as those who use it, or as anyone (constrained delegation)."""
    names = set(names_of(machine))
    for account in facts.accounts:
        named = next((service for service in account.delegates_to if host_of(service) in names), None)
        if named is not None and not account.disabled:
            conditions = () if account.any_protocol else (f"if an administrator of {machine.name.rstrip('$')} logs on to it first",)
            yield Link(
                source=control.principal(account),
                target=right,
                kind=LinkKind.MAY_BECOME,
                strength=Strength.CONDITIONAL if conditions else Strength.CERTAIN,
                by=By(Mechanism.PERMISSION),
                because=f"may call {named} as {'any account' if account.any_protocol else 'those who use it'} (constrained delegation)",
                conditions=conditions,
                place=account.place,
            )
