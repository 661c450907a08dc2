"""From keys of SSH to links: which key opens which account, and who can read its private half."""

from collections.abc import Mapping

from fidelitas.facts import Place
from fidelitas.rights.graph.links import By, LinkKind, Mechanism, Principal, PrincipalKind, Right, RightKind, Strength
from fidelitas.rights.linux.files import readers
from fidelitas.rights.linux.link_maker import LinkMaker, Links, Why
from fidelitas.rights.linux.population import Identity
from fidelitas.rights.linux.ssh import key_grants, key_name

__all__ = ["KeyLinks"]


class KeyLinks(LinkMaker):
    """The links that keys of SSH give."""

    def found(self) -> Links:
        """Keys that open an account: anyone who holds the private half."""
        opened: dict[str, Principal] = {}
        for who in self._population.effective:
            for key_grant in key_grants(self._facts, who, self._population):
                key = key_grant.key
                source = opened[key.fingerprint] = self._nodes.principal(PrincipalKind.KEY, key_name(key))
                how = "a key signed by it opens" if key.authority else "it opens"
                why = Why(
                    By(Mechanism.SSH_KEY),
                    f"{how} the account {who.name} over SSH",
                    key.place,
                    Strength.CONDITIONAL if key_grant.conditions else Strength.DIRECT,
                    conditions=key_grant.conditions,
                )
                yield (self.link(source, self._opened(who, key_grant.command), why),)
        yield from self._private_keys(opened)

    def _private_keys(self, opened: Mapping[str, Principal]) -> Links:
        """Private keys on this host that open an account of it: any account that can read the file has them."""
        for key in self._facts.logins.private_keys:
            node = opened.get(key.fingerprint or "")
            who = readers(key.path, self._facts.states)
            if node is not None and who:
                needed = ("if its passphrase is known",) if key.encrypted else ()
                why = Why(
                    By(Mechanism.PRIVATE_KEY),
                    f"has the private key {key.path}{'' if key.encrypted else ', without a passphrase'}",
                    Place(subject=self._facts.subject, path=key.path),
                    Strength.CONDITIONAL if needed else Strength.DIRECT,
                    LinkKind.HAS,
                    conditions=needed,
                )
                yield from self.by_writers(who, node, why)

    def _opened(self, who: Identity, command: str) -> Principal | Right:
        if command:
            suffix = "" if who.uid == 0 else f" as {who.name}"
            return self._nodes.right(RightKind.COMMAND, f"{command}{suffix}")
        return self._nodes.root if who.uid == 0 else self._nodes.account(who)
