"""How accounts are logged in to: sshd's settings, the keys that it accepts, private keys that lie about, and what PAM asks."""

from enum import StrEnum

from msgspec import Struct, field

from fidelitas.equality import equal_apart_from
from fidelitas.text import Place

__all__ = ["AuthorizedKey", "KeptPassword", "LentGroups", "Logins", "PamRule", "PamTask", "PrivateKey", "SshdSetting"]


@equal_apart_from("place")
class SshdSetting(Struct, frozen=True, kw_only=True):
    """A line of sshd_config(5): the keyword in lower case.

    `matches` are the criteria of the Match blocks that it stands in, each a name in lower case and its patterns; all must hold.
    """

    keyword: str
    arguments: tuple[str, ...]
    matches: tuple[tuple[str, str], ...] = ()
    place: Place


@equal_apart_from("place")
class AuthorizedKey(Struct, frozen=True, kw_only=True):
    """A public key that opens the accounts whose file it stands in; `fingerprint` is ``SHA256:`` and base64, as ssh-keygen(1) shows it."""

    key_type: str
    fingerprint: str
    comment: str | None
    options: tuple[tuple[str, str], ...] = ()
    authority: bool = False  # cert-authority: it signs keys that open the account
    place: Place

    def option(self, name: str) -> str | None:
        """Return the value of an option, empty for one without, or ``None`` where it is not there."""
        return dict(self.options).get(name)


class PrivateKey(Struct, frozen=True, kw_only=True):
    """A private key: where it lies, whether a passphrase protects it, and its fingerprint where the public half is known."""

    path: str
    encrypted: bool
    fingerprint: str | None = None
    comment: str | None = None


class KeptPassword(Struct, frozen=True, kw_only=True):
    """A file with the password of a database in it: an option file, a password file or a script."""

    path: str
    file_kind: str  # in words: an open set


class PamTask(StrEnum):
    """The task that a rule of PAM is for (pam.conf(5), type)."""

    AUTH = "auth"
    ACCOUNT = "account"
    PASSWORD = "password"  # noqa: S105
    SESSION = "session"


@equal_apart_from("place")
class PamRule(Struct, frozen=True, kw_only=True):
    """A line of a PAM service, includes followed; `control` is the word, or what stands in the brackets."""

    task: PamTask
    control: str
    module: str
    arguments: tuple[str, ...]
    place: Place


@equal_apart_from("place")
class LentGroups(Struct, frozen=True, kw_only=True):
    """A line of group.conf(5): `groups` that pam_group(8) lends to `users` at a log-in by one of `services`; all as they are written."""

    services: str
    terminals: str
    users: str
    times: str
    groups: tuple[str, ...]
    place: Place


class Logins(Struct, frozen=True, kw_only=True):
    """What is known of log-ins on a host.

    `sshd` is ``None`` where there is no sshd_config, `keys` maps a file to the keys in it and is ``None`` where nobody looked for keys.
    `pam` maps a service to its rules; one that is not there has no file of its own.
    """

    sshd: tuple[SshdSetting, ...] | None = None
    keys: dict[str, tuple[AuthorizedKey, ...]] | None = None
    private_keys: tuple[PrivateKey, ...] = ()
    kept_passwords: tuple[KeptPassword, ...] = ()
    capabilities: tuple[tuple[frozenset[str], tuple[str, ...], Place], ...] = ()  # capability.conf(5): capabilities, users, place
    pam: dict[str, tuple[PamRule, ...]] = field(default_factory=dict)
    lent_groups: tuple[LentGroups, ...] = ()
