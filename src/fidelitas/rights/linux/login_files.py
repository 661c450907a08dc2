"""What sshd runs, loads or believes besides the keys in a home: sshd_config(5).

Knows the settings and what each file is for; not who can write it.  Files that sshd refuses when others can write them (StrictModes, and
the program of AuthorizedKeysCommand) are left out where it does.
"""

import re
from collections.abc import Iterator
from posixpath import dirname

from fidelitas.facts import HostFacts, Place, SshdSetting
from fidelitas.rights.linux.population import Identity, Population
from fidelitas.rights.linux.ssh import key_files, key_grants, may_connect, named_files, sshd_for

__all__ = ["login_files"]

# (account, or None for root and so for everyone; path; how it is used; the line that names it)
LoginFile = tuple[Identity | None, str, str, Place]
_BY_NAME = re.compile(r"(?<![\w.}/])(?P<folder>(?:/[\w.+@%~-]+)+)/[\"']?\$(?:\w+|\{\w+\})[\"']?(?P<suffix>[\w.+@%~-]*)")
_PATH = re.compile(r"(?<![\w.}/])(/[\w.+@%~-]+(?:/[\w.+@%~-]+)*)")


def login_files(facts: HostFacts, population: Population) -> Iterator[LoginFile]:
    """Yield each file with the account that is decided by it."""
    for setting in facts.logins.sshd or ():
        yield from _of_setting(setting)
        yield from _of_key_program(setting, facts, population)
    for who in population.effective:
        if not who.of_directory and who.account is not None and facts.logins.sshd is not None:
            yield from _of_account(who, facts, population)


def _of_setting(setting: SshdSetting) -> Iterator[LoginFile]:
    words = [word for word in setting.arguments if word.startswith("/")]
    if setting.keyword == "include":
        for word in words:
            path = word if not re.search(r"[*?\[]", word) else dirname(re.split(r"[*?\[]", word)[0] + "x")
            yield None, path, "sshd reads it as part of its configuration (Include)", setting.place
    elif setting.keyword in ("trustedusercakeys", "hostcertificate", "revokedkeys", "authorizedprincipalsfile"):
        for word in words if setting.keyword == "trustedusercakeys" else ():
            yield None, word, "keys that it names may sign logins of any account (TrustedUserCAKeys)", setting.place
    elif setting.keyword == "subsystem" and words:
        yield None, words[0], "sshd runs it in every login that asks for it, root's among them (Subsystem)", setting.place


def _of_key_program(setting: SshdSetting, facts: HostFacts, population: Population) -> Iterator[LoginFile]:
    """What the program reads that says whose keys open an account; itself sshd runs only where root alone can write it."""
    if setting.keyword not in ("authorizedkeyscommand", "authorizedprincipalscommand") or not setting.arguments:
        return
    program = setting.arguments[0]
    for line in facts.delegations.texts.get(program, "").split("\n"):
        if line.lstrip().startswith("#"):
            continue
        for found in _PATH.finditer(line):
            yield None, found[1], f"{program} reads it to say whose keys open which account ({setting.keyword})", setting.place
        for found in _BY_NAME.finditer(line):  # a file for each account, named by an argument
            for who in population.effective:
                path = f"{found['folder']}/{who.name}{found['suffix']}"
                if path in facts.states:
                    why = f"{program} reads it to say whose keys open the account {who.name} ({setting.keyword})"
                    yield None if who.uid == 0 else who, path, why, setting.place


def _of_account(who: Identity, facts: HostFacts, population: Population) -> Iterator[LoginFile]:
    effective = sshd_for(facts.logins, who, population)
    if may_connect(effective, who, population):
        return
    account = None if who.uid == 0 else who
    forced = effective.values["forcecommand"].split()
    if forced and forced[0].startswith("/"):
        stated = effective.stated.get("forcecommand")
        yield account, forced[0], f"sshd runs it at every login of {who.name} (ForceCommand)", stated.place if stated else who.account.place  # type: ignore[union-attr]
    for grant in key_grants(facts, who, population):
        command = grant.command.split()
        if command and command[0].startswith("/"):
            yield account, command[0], f"a key of {who.name} runs it (command=)", grant.key.place
    if effective.on("strictmodes"):
        return
    place = effective.stated["strictmodes"].place if "strictmodes" in effective.stated else Place(facts.subject, "/etc/ssh/sshd_config")
    for path in key_files(effective, who):
        yield account, path, f"its keys open the account {who.name}, and sshd does not ask who can write it (StrictModes no)", place
    for path in named_files(effective.values.get("authorizedprincipalsfile", "none"), who):
        yield account, path, f"it says which certificates open the account {who.name} (AuthorizedPrincipalsFile, StrictModes no)", place
