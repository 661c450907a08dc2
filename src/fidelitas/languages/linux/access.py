"""The other roads to root on a host: which file of a bundle is in which language.

Knows the paths and what each is read for; not the syntax, nor what follows from the facts.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from fnmatch import fnmatchcase
from typing import Protocol

from fidelitas.facts import (
    AuthorizedKey,
    Delegations,
    DoasRule,
    FileKind,
    FileState,
    Gap,
    Job,
    JobKind,
    KeptPassword,
    Logins,
    Place,
    PolkitAction,
    PolkitRule,
    PrivateKey,
    SearchFolder,
    SshdSetting,
    SubordinateRange,
    Trust,
)
from fidelitas.languages.evidence import HostEvidence
from fidelitas.languages.lines import lines_of
from fidelitas.languages.linux.cron import read_anacrontab, read_crontab, runs_in_folder
from fidelitas.languages.linux.delegations import read_doas, read_exports, read_library_folders, read_path_lines, read_polkit_rules
from fidelitas.languages.linux.hooks import read_hook, script_job
from fidelitas.languages.linux.keys import public_fingerprint, read_authorized_keys
from fidelitas.languages.linux.pam import read_lent_groups, read_pam_service
from fidelitas.languages.linux.polkit_actions import read_local_authority, read_polkit_actions
from fidelitas.languages.linux.services import read_capabilities, read_device_rules, read_open_service
from fidelitas.languages.linux.shell import calls_of
from fidelitas.languages.linux.sshd import read_sshd
from fidelitas.languages.linux.units import FOLDERS, read_units
from fidelitas.text import decode

__all__ = ["AccessReader", "private_key_fingerprints"]

# The services whose rules decide who becomes whom.
_PAM_SERVICES = ("su", "su-l", "sudo", "sudo-i", "login", "sshd", "other", "polkit-1", "doas")
_SPOOLS = ("/var/spool/cron/crontabs/", "/var/spool/cron/tabs/", "/var/spool/cron/")
_CRON_FOLDERS = ("/etc/cron.hourly/", "/etc/cron.daily/", "/etc/cron.weekly/", "/etc/cron.monthly/")
_AT_FOLDERS = ("/var/spool/cron/atjobs/", "/var/spool/at/")
# Files of a home that a shell or program of its account reads (bash(1), zsh(1), ksh(1), csh(1), fish(1)).
_RC_FILES = frozenset({
    ".profile", ".bash_profile", ".bash_login", ".bashrc", ".bash_logout", ".zshenv", ".zprofile", ".zshrc", ".zlogin", ".kshrc", ".mkshrc",
    ".xprofile", ".xsession", ".xinitrc", ".xsessionrc",
})  # fmt: skip
_MOST_CALLS = 20_000
# Files by which others log in as root, or as anyone, without a password of this host.
_TRUST_FILES = (
    "/etc/hosts.equiv",
    "/etc/shosts.equiv",
    "/etc/ssh/shosts.equiv",
    "/root/.rhosts",
    "/root/.shosts",
    "/root/.k5login",
    "/root/.k5users",
)
_START_UP = ("/root/", "/etc/profile", "/etc/bash", "/etc/environment", "/etc/zsh/")


class _Files(Protocol):
    @property
    def states(self) -> Mapping[str, FileState]: ...
    def text(self, path: str) -> str | None: ...
    def names(self, folder: str) -> list[str]: ...
    def inside(self, folder: str) -> Sequence[str]: ...


def _anyones(word: str) -> str:
    """Return a word of AuthorizedKeysFile as a pattern for paths, for any account."""
    pattern = re.sub(r"%[uhU]", "*", word)
    return pattern if pattern.startswith(("/", "*")) else f"*/{pattern}"


def _key_row(row: str) -> tuple[str, str]:
    """Return the path of a private key and the digits of its public half, which older probes do not print."""
    path, tab, digits = row.rpartition("\t")
    return (path, digits) if tab else (row, "")


def private_key_fingerprints(evidence: HostEvidence) -> frozenset[str]:
    """Return the fingerprints of the private keys that are stored on a host, as far as their public halves are known."""
    found: set[str | None] = set()
    for row in decode(evidence.listings.get("private-keys", b"")).split("\n"):
        path, digits = _key_row(row.partition("\t")[2])
        public = evidence.files.get(f"{path}.pub", b"")
        found |= {key.fingerprint for key in read_authorized_keys(decode(public), Place(evidence.subject, "")).entries[:1]}
        found.add(public_fingerprint(digits))
    return frozenset(one for one in found if one)


class AccessReader:
    """Reads what a bundle holds of log-ins and delegations; what could not be read is in `gaps`."""

    def __init__(self, subject: str, files: _Files, listings: Mapping[str, bytes]) -> None:
        self._subject = subject
        self._files = files
        self._listings = listings
        self.gaps: list[Gap] = []
        self._sshd_settings: tuple[SshdSetting, ...] = ()

    def _place(self, path: str) -> Place:
        return Place(subject=self._subject, path=path)

    def _rows(self, listing: str) -> Iterator[list[str]]:
        for line in decode(self._listings.get(listing, b"")).split("\n"):
            if "\t" in line:
                yield line.split("\t", 1)

    # -- log-ins -----------------------------------------------------------------------------------------------------------------

    def logins(self) -> Logins:
        """Return what is known of log-ins."""
        sshd = self._sshd()
        keys = dict(self._keys(sshd or ()))
        pam = {name: read_pam_service(name, self._subject, self._files.text) for name in _PAM_SERVICES}
        return Logins(
            sshd=sshd,
            keys=keys if "homes" in self._listings else None,
            private_keys=tuple(self._private_keys()),
            capabilities=tuple(
                read_capabilities(self._files.text("/etc/security/capability.conf") or "", self._place("/etc/security/capability.conf"))
            ),
            kept_passwords=tuple(KeptPassword(path=path, file_kind=kind) for kind, path in self._rows("kept-passwords") if path),
            pam={name: rules for name, rules in pam.items() if rules is not None},
            lent_groups=tuple(
                read_lent_groups(self._files.text("/etc/security/group.conf") or "", self._place("/etc/security/group.conf"))
            ),
        )

    def _sshd(self) -> tuple[SshdSetting, ...] | None:
        path = "/etc/ssh/sshd_config"
        if self._files.text(path) is None:
            return None
        settings, gaps = read_sshd(path, self._subject, self._files.text, self._files.names)
        self.gaps += gaps
        self._sshd_settings = settings
        return settings

    def _keys(self, sshd: Sequence[SshdSetting]) -> Iterator[tuple[str, tuple[AuthorizedKey, ...]]]:
        """The files that some account's keys may stand in; whose they are is not asked here."""
        words = [word for setting in sshd if setting.keyword in ("authorizedkeysfile", "trustedusercakeys") for word in setting.arguments]
        patterns = {_anyones(word) for word in (*words, ".ssh/authorized_keys", ".ssh/authorized_keys2")}
        for path in self._files.states:
            text = self._files.text(path)
            if text is not None and any(fnmatchcase(path, pattern) for pattern in patterns):
                parsed = read_authorized_keys(text, self._place(path))
                self.gaps += parsed.gaps
                yield path, parsed.entries

    def _private_keys(self) -> Iterator[PrivateKey]:
        for state, row in self._rows("private-keys"):
            path, digits = _key_row(row)
            public = self._files.text(f"{path}.pub")
            entries = read_authorized_keys(public, self._place(f"{path}.pub")).entries if public else ()
            key = entries[0] if entries else None
            yield PrivateKey(
                path=path,
                encrypted=state == "encrypted",
                fingerprint=public_fingerprint(digits) or (key.fingerprint if key else None),
                comment=key.comment if key else None,
            )

    # -- delegations -------------------------------------------------------------------------------------------------------------

    def delegations(self) -> Delegations:
        """Return what else leads to root."""
        jobs, folders = self._cron()
        jobs += (*self._folder_jobs(), *self._units(), *self._hooks(), *self._start_up_jobs())
        jobs += self._followed(jobs)
        folders += self._folders()
        preload = self._files.text("/etc/ld.so.preload") or ""
        preloaded = [
            SearchFolder(path=word, why="every program loads it (/etc/ld.so.preload)", place=self._place("/etc/ld.so.preload"))
            for word in preload.replace(":", " ").split()
            if word.startswith("/")
        ]
        return Delegations(
            jobs=tuple(jobs),
            folders=tuple(folders),
            preloaded=tuple(preloaded),
            doas=self._doas(),
            polkit=tuple(self._polkit()),
            polkit_actions=tuple(self._polkit_actions()),
            exports=tuple(
                export
                for path in ("/etc/exports", *self._files.inside("/etc/exports.d/"))
                for export in read_exports(self._files.text(path) or "", self._place(path))
            ),
            services=tuple(one for path, text in self._texts() for one in read_open_service(path, text, self._subject)),
            devices=tuple(
                one
                for path, text in self._texts()
                if path.endswith(".rules") and "/udev/" in path
                for one in read_device_rules(path, text, self._subject)
            ),
            calls=dict(self._calls()),
            subordinates=tuple(self._subordinates()),
            trusts=tuple(self._trusts()),
            texts={
                setting.arguments[0]: text
                for setting in self._sshd_settings
                if setting.keyword.endswith("command")
                and setting.arguments
                and (text := self._files.text(setting.arguments[0])) is not None
            },
            scripts={path: line.removeprefix("#!").split()[0] for path, line in self._rows("scripts") if line.removeprefix("#!").split()},
        )

    def _cron(self) -> tuple[list[Job], list[SearchFolder]]:
        jobs: list[Job] = []
        folders: list[SearchFolder] = []
        tables: list[tuple[str, str | None]] = [("/etc/crontab", None), *((path, None) for path in self._files.inside("/etc/cron.d/"))]
        for spool in _SPOOLS:
            tables += ((path, path.removeprefix(spool)) for path in self._files.inside(spool) if "/" not in path.removeprefix(spool))
        for path, account in tables:
            text = self._files.text(path)
            if text is not None and (account is not None or path == "/etc/crontab" or runs_in_folder(path.rpartition("/")[2])):
                found, more = read_crontab(text, self._place(path), account)
                jobs += found
                folders += more
        jobs += read_anacrontab(self._files.text("/etc/anacrontab") or "", self._place("/etc/anacrontab"))
        return jobs, folders

    def _folder_jobs(self) -> Iterator[Job]:
        """What is in a folder that is run as a whole."""
        for folder in (*_CRON_FOLDERS, "/etc/init.d/"):
            for path, state in self._files.states.items():
                name = path.removeprefix(folder)
                if path.startswith(folder) and "/" not in name and state.kind is FileKind.FILE and runs_in_folder(name):
                    yield Job(kind=JobKind.SCRIPT, name=name, run_as="root", command=path, programs=(path,), place=self._place(path))
        for path, state in self._files.states.items():
            if path.startswith(_AT_FOLDERS) and state.kind is FileKind.FILE and not path.rpartition("/")[2].startswith("."):
                owner = str(state.uid)  # a job of at is its owner's
                yield Job(kind=JobKind.AT, name=path, run_as=owner, command=path, programs=(path,), place=self._place(path))
                for call in calls_of(self._files.text(path) or "") if state.read else ():
                    place = Place(subject=self._subject, path=path, line=call.line)
                    yield Job(kind=JobKind.AT, name=path, run_as=owner, command="", programs=(call.path,), place=place, how=call.how)

    def _hooks(self) -> Iterator[Job]:
        """What configuration makes root's programs run."""
        for path, state in self._files.states.items():
            text = self._files.text(path) if state.read else None
            if text is not None:
                yield from read_hook(path, text, self._subject)

    def _start_up_jobs(self) -> Iterator[Job]:
        """What the start-up files of shells run and read, of root and of other accounts, as far as they were copied."""
        homes = {home: account for account, home in self._rows("homes") if home != "/"}
        for path, state in self._files.states.items():
            folder, _, name = path.rpartition("/")
            if not state.read or (name not in _RC_FILES and not path.startswith(_START_UP)):
                continue
            account = homes.get(folder, "root" if path.startswith(_START_UP) else None)
            if account is not None:
                variables = {"HOME": folder} if folder in homes else {}
                for call in calls_of(self._files.text(path) or "", script=path, variables=variables):
                    place = Place(subject=self._subject, path=path, line=call.line)
                    yield Job(
                        kind=JobKind.START_UP, name=path, run_as=account, command="", programs=(call.path,), place=place, how=call.how
                    )

    def _followed(self, jobs: Sequence[Job]) -> list[Job]:
        """Return what the scripts that jobs start run and read in turn, as the same account."""
        found: list[Job] = []
        queue = [(job, program) for job in jobs for program in job.programs]
        seen = {(job.run_as, program) for job, program in queue}
        while queue and len(found) < _MOST_CALLS:
            job, program = queue.pop()
            state = self._files.states.get(program)
            text = self._files.text(program) if state is not None and state.read else None
            if text is None or not (text.startswith("#!") or job.how == "reads" or program.endswith((".py", ".sh"))):
                continue
            for made in script_job(program, text, self._subject, job.run_as):
                found.append(made)
                for called in made.programs:
                    if (made.run_as, called) not in seen:
                        seen.add((made.run_as, called))
                        queue.append((made, called))
        return found

    def _texts(self) -> Iterator[tuple[str, str]]:
        for path, state in self._files.states.items():
            text = self._files.text(path) if state.read and "/home/" not in path else None
            if text is not None:
                yield path, text

    def _calls(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        for path, state in self._files.states.items():
            text = self._files.text(path) if state.read else None
            if text is not None and text.startswith("#!"):
                made = script_job(path, text, self._subject, "")
                yield path, tuple(dict.fromkeys(program for job in made for program in job.programs))

    def _subordinates(self) -> Iterator[SubordinateRange]:
        """Lines of subuid(5): owner, first, count."""
        for line in lines_of(self._files.text("/etc/subuid") or "", self._place("/etc/subuid")):
            parts = line.text.strip().split(":")
            if len(parts) == 3 and all(part.isdecimal() and len(part) < 11 for part in parts[1:]):
                yield SubordinateRange(owner=parts[0], first=int(parts[1]), count=int(parts[2]), place=line.place())

    def _trusts(self) -> Iterator[Trust]:
        for path in _TRUST_FILES:
            for line in lines_of(self._files.text(path) or "", self._place(path)):
                if line.text.strip() and not line.text.lstrip().startswith("#"):
                    yield Trust(path=path, text=line.text.strip(), place=line.place())

    def _units(self) -> list[Job]:
        texts = {
            path: text for folder in FOLDERS for path in self._files.inside(f"{folder}/") if (text := self._files.text(path)) is not None
        }
        masked = frozenset(path for path, state in self._files.states.items() if state.real == "/dev/null")
        # Of a unit that could not be read, what it leads to says what root runs all the same.
        unread = [
            Job(kind=JobKind.UNIT_FILE, name=path, run_as="root", command="", programs=(), place=self._place(path))
            for path, state in self._files.states.items()
            if path.startswith(FOLDERS)
            and path.endswith((".service", ".socket", ".timer", ".path", ".mount"))
            and path not in texts
            and state.kind is FileKind.FILE
        ]
        return [*read_units(texts, masked, self._subject), *unread]

    def _folders(self) -> list[SearchFolder]:
        folders: list[SearchFolder] = []
        for path in ("/etc/ld.so.conf", *self._files.inside("/etc/ld.so.conf.d/")):
            folders += read_library_folders(self._files.text(path) or "", self._place(path))
        for path, state in self._files.states.items():
            if state.read and path.startswith(_START_UP) and "/.ssh/" not in path:
                folders += read_path_lines(self._files.text(path) or "", self._place(path))
        limits = self._files.text("/etc/login.defs") or ""
        super_path = [line for line in limits.split("\n") if line.startswith("ENV_SUPATH")]
        for line in super_path:
            folders += read_path_lines(line, self._place("/etc/login.defs"))
        return folders

    def _doas(self) -> tuple[DoasRule, ...] | None:
        text = self._files.text("/etc/doas.conf")
        if text is None:
            return None
        parsed = read_doas(text, self._place("/etc/doas.conf"))
        self.gaps += parsed.gaps
        return parsed.entries

    def _polkit(self) -> Iterator[PolkitRule]:
        """The rules in the order in which polkitd reads them: by file name, /etc before /usr/share (polkit(8))."""
        paths = [*self._files.inside("/etc/polkit-1/rules.d/"), *self._files.inside("/usr/share/polkit-1/rules.d/")]
        for path in sorted(paths, key=lambda path: (path.rpartition("/")[2], path.startswith("/usr"))):
            rules, gaps = read_polkit_rules(self._files.text(path) or "", self._place(path))
            self.gaps += gaps
            yield from rules
        for path in self._files.inside("/etc/polkit-1/"):
            if path.endswith((".pkla", ".conf")):
                yield from read_local_authority(self._files.text(path) or "", self._place(path))

    def _polkit_actions(self) -> Iterator[PolkitAction]:
        for path in self._files.inside("/usr/share/polkit-1/actions/"):
            actions, gaps = read_polkit_actions(self._files.text(path) or "", self._place(path))
            self.gaps += gaps
            yield from actions
