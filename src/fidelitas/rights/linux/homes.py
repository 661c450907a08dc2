"""What is read in the home of an account whenever it logs in or works: start-up files of shells, keys, units, settings with commands.

Knows the names; not who can write them.
"""

from collections.abc import Iterator

from fidelitas.facts import FileKind, HostFacts
from fidelitas.rights.linux.population import AccountKind, Identity, Login, Population
from fidelitas.rights.linux.ssh import sshd_for

__all__ = ["home_files"]

# By what each is run or read; the folders count with what is in them.
_READ = {
    **dict.fromkeys(
        (".profile", ".bash_profile", ".bash_login", ".bashrc", ".bash_logout", ".zshenv", ".zprofile", ".zshrc", ".zlogin", ".zlogout",
         ".kshrc", ".mkshrc", ".cshrc", ".tcshrc", ".login", ".logout", ".xprofile", ".xsession", ".xsessionrc", ".xinitrc", ".inputrc",
         ".config/fish/config.fish", ".config/fish"),
        "the shell of {} runs it at login",
    ),
    **dict.fromkeys((".pam_environment", ".ssh/environment"), "the variables of logins of {} are set by it (pam_env(8), sshd(8))"),
    **dict.fromkeys((".ssh/authorized_keys", ".ssh/authorized_keys2"), "its keys open the account {} (sshd(8))"),
    ".ssh/rc": "sshd runs it at each login of {} (sshd(8))",
    ".ssh/config": "ssh runs commands that it names as {} (ssh_config(5))",
    ".ssh": "the keys that open the account {} are in it (sshd(8))",
    **dict.fromkeys((".rhosts", ".shosts", ".k5login", ".k5users"), "it says who may log in as {} (sshd(8), ksu(1))"),
    ".forward": "mail to {} runs commands that it names (local(8))",
    **dict.fromkeys(
        (".vimrc", ".vim", ".exrc", ".nanorc", ".emacs", ".emacs.d", ".gdbinit", ".lesskey", ".gitconfig", ".config/git/config",
         ".screenrc", ".tmux.conf", ".config/nvim", ".pythonrc", ".perldb", ".irbrc", ".config/pip/pip.conf"),
        "programs of {} run commands that it names (vim(1), git-config(1), screen(1))",
    ),
    **dict.fromkeys(
        (".config/systemd", ".config/systemd/user", ".local/share/systemd/user", ".config/autostart", ".config/environment.d"),
        "services of {} are started from it (systemd.unit(5))",
    ),
    **dict.fromkeys(("bin", ".local/bin", ".local/lib", ".config", ".local"), "{} runs programs from it"),
}  # fmt: skip


def home_files(facts: HostFacts, population: Population) -> Iterator[tuple[Identity, str, str]]:
    """Yield each file or folder of a home that its account reads, with how; of accounts that log in, and the home itself.

    Accounts of services, whose homes are folders of their programs, are left out unless they have a login.
    """
    inhabited = {folder for path in facts.states for folder in _above(path)}
    seen = inhabited | facts.states.keys()
    for who in population.effective:
        home = "" if who.account is None else who.account.home.rstrip("/")
        if home not in seen:  # as of most accounts of a directory
            continue
        idle = who.kind is not AccountKind.PERSON and who.login in (Login.REFUSED, Login.NEITHER)
        if who.uid != 0 and idle:
            continue
        if not home.startswith("/") or home in ("/usr/sbin", "/bin", "/dev", "/usr/bin", "/nonexistent", "/proc"):
            continue
        state = facts.states.get(home)
        if state is not None and state.kind is FileKind.FOLDER:
            yield who, home, f"it is the home of {who.name}, whose start-up files and keys are in it"
        present = [name for name in _READ if f"{home}/{name}" in facts.states] if home in inhabited else []
        skipped = _refused(who, facts, population) if present else frozenset()
        for name in present:
            if name not in skipped:
                yield who, f"{home}/{name}", _READ[name].format(who.name)


def _above(path: str) -> Iterator[str]:
    """Yield the folders that a path is in."""
    while "/" in path.lstrip("/"):
        path = path.rpartition("/")[0]
        yield path


def _refused(who: Identity, facts: HostFacts, population: Population) -> frozenset[str]:
    """Return the files that sshd does not read where others can write them, or does not read at all (sshd_config(5))."""
    effective = sshd_for(facts.logins, who, population)
    keys = frozenset({".ssh/authorized_keys", ".ssh/authorized_keys2"} if effective.on("strictmodes") else ())
    variables = frozenset() if effective.values.get("permituserenvironment", "no").lower() != "no" else frozenset({".ssh/environment"})
    hosts = frozenset() if effective.on("hostbasedauthentication") else frozenset({".rhosts", ".shosts"})
    return keys | variables | hosts
