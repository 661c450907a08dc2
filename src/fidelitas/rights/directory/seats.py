"""Where the control of a whole domain sits besides its administrative groups: who holds one of these holds the domain.

The domain itself, the template of administrators' permissions (AdminSDHolder), the domain controllers, authorities that give certificates
to log on by, and accounts that act for others ([MS-ADTS] 3.1.1.6.1, [MS-DRSR] 4.1.10, [MS-CRTD], [MS-SFU]).
"""

from collections.abc import Iterator

from fidelitas.facts import CertificateAuthority, CertificateTemplate, Container, ContainerKind, DirectoryAccount, DirectoryFacts
from fidelitas.rights.directory.accesses import COPY_ALL, COPY_SOME, ENROL, TAKE_OVER, WRITE_POLICY, Sort, accesses_on
from fidelitas.rights.directory.control import Control, Permitted, made_link
from fidelitas.rights.directory.names import host_of, names_of
from fidelitas.rights.directory.objects import Objects
from fidelitas.rights.graph.links import By, Link, LinkKind, Mechanism, Principal, Right, Strength

__all__ = ["Seats"]

# Services of a machine by which one who calls them as an administrator commands it; other names of a machine are changed into these.
_ON_REQUEST = "if someone who administers the domain logs on to it first: it may act for those alone whom it has heard of by Kerberos"
_CHOSEN = "may get a certificate in the name of anyone by template {}, which {} gives"
_TEMPLATE = "may change certificate template {}, which {} gives, and then get a certificate in the name of anyone"


class Seats:
    """The links that lead to control of a directory as a whole."""

    def __init__(self, facts: DirectoryFacts, objects: Objects, control: Control, right: Right) -> None:
        self._facts, self._objects, self._control, self._right = facts, objects, control, right

    def links(self) -> Iterator[Link]:
        """Yield every link once."""
        yield from dict.fromkeys(self._every())

    def _every(self) -> Iterator[Link]:
        for container in self._facts.control.containers:
            if container.kind is ContainerKind.DOMAIN:
                yield from self._by_the_domain(container)
            elif container.kind is ContainerKind.TEMPLATE:
                yield from self._by_the_template(container)
        for account in self._facts.accounts:
            if account.controller and not account.disabled:
                yield from self._by_a_controller(account)
            if account.delegates_to and not account.disabled:
                yield from self._by_delegation(account)
        yield from self._by_certificates()
        yield from self._control.server.everything(self._right)

    def _by_the_domain(self, domain: Container) -> Iterator[Link]:
        yield from self._control.takers_of(domain, self._right)
        if domain.descriptor is None:
            return
        sid = self._control.domain_sid(domain.dn)
        some = {one.who: one for one in self._control.permitted(domain.descriptor, COPY_SOME, sid)}
        everything = {one.who: one for one in self._control.permitted(domain.descriptor, COPY_ALL, sid)}
        for who in some.keys() & everything.keys():
            yield made_link(everything[who], self._right, "may copy the passwords of all accounts (replication)", domain.place)
        yield from self._by_both(some, everything, domain)

    def _by_both(self, some: dict[Principal, Permitted], everything: dict[Principal, Permitted], domain: Container) -> Iterator[Link]:
        """Yield accounts that have one half of the right to replicate by one group and the other by another."""
        halves = [{one: held for held in half.values() for one in self._control.with_members(held.who)} for half in (some, everything)]
        whole = {one for who in some.keys() & everything.keys() for one in self._control.with_members(who)}
        for who in sorted((halves[0].keys() & halves[1].keys()) - whole, key=str):
            because = (
                f"may copy the passwords of all accounts (replication), partly as {halves[0][who].who} and partly as {halves[1][who].who}"
            )
            yield made_link(Permitted(who, halves[1][who].entry), self._right, because, domain.place)

    def _by_the_template(self, template: Container) -> Iterator[Link]:
        if template.descriptor is None:
            return
        yield from self._control.takers_of(template, self._right)
        sid = self._control.domain_sid(template.dn)
        for row in (*accesses_on(Sort.GROUP), *accesses_on(Sort.PERSON)):
            for one in self._control.permitted(template.descriptor, row.access, sid):
                because = f"{row.because.format('administrators and their groups')}: their permissions are made like those of AdminSDHolder"
                yield made_link(one, self._right, because, template.place, row.condition)

    def _by_a_controller(self, account: DirectoryAccount) -> Iterator[Link]:
        for link in self._control.over(account):
            yield Link(
                source=link.source,
                target=self._right,
                kind=link.kind,
                strength=link.strength,
                by=link.by,
                because=f"{link.because}, a domain controller",
                quote=link.quote,
                conditions=link.conditions,
                place=link.place,
            )

    def _by_delegation(self, account: DirectoryAccount) -> Iterator[Link]:
        """Yield what an account obtains that may call services of a domain controller as those who use it."""
        controllers = {name for one in self._facts.accounts if one.controller for name in names_of(one)}
        named = next((service for service in account.delegates_to if host_of(service) in controllers), None)
        if named is None:
            return
        yield Link(
            source=self._objects.principal(account),
            target=self._right,
            kind=LinkKind.MAY_BECOME,
            strength=Strength.CERTAIN if account.any_protocol else Strength.CONDITIONAL,
            by=By(Mechanism.PERMISSION),
            because=f"may call {named} of a domain controller as any account (constrained delegation)",
            conditions=() if account.any_protocol else (_ON_REQUEST,),
            place=account.place,
        )

    # -- certificates ----------------------------------------------------------------------------------------------------------------

    def _by_certificates(self) -> Iterator[Link]:
        templates = {template.name.casefold(): template for template in self._facts.control.templates}
        for authority in self._facts.control.authorities:
            for name in authority.templates:
                template = templates.get(name.casefold())
                if template is not None and template.descriptor is not None:
                    yield from self._by_template(template, authority)

    def _by_template(self, template: CertificateTemplate, authority: CertificateAuthority) -> Iterator[Link]:
        sid = self._control.domain_sid(template.dn)
        descriptor = template.descriptor
        if descriptor is None:
            return
        condition = f"if {authority.name} lets it ask, which its own settings say"
        free = not template.needs_approval and template.signatures <= 0
        if free and ((template.subject_is_chosen and template.for_logon) or template.any_purpose):
            for one in self._control.permitted(descriptor, ENROL, sid):
                yield made_link(one, self._right, _CHOSEN.format(template.name, authority.name), template.place, condition)
        for access in (WRITE_POLICY, *(row.access for row in TAKE_OVER)):
            for one in self._control.permitted(descriptor, access, sid):
                yield made_link(one, self._right, _TEMPLATE.format(template.name, authority.name), template.place, condition)
