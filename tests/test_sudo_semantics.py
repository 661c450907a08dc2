"""What surprises about sudo's decisions, a row each: policy, question, answer.  Real sudo confirms the same rules in test_judge_may."""

from datetime import UTC, datetime

import pytest

from fidelitas.inquiry import Inquiry, run_as_of
from fidelitas.rights.linux.sudo import Host, Question
from support import GROUP, PASSWD, SHADOW, bundle

FILES = {
    "/etc/passwd": PASSWD + "toor:x:0:0::/root:/bin/sh\nKofi:x:1006:1006::/:/bin/sh\n42:x:1042:1042::/:/bin/sh\n",
    "/etc/shadow": SHADOW,
    "/etc/group": GROUP + "ops:x:3002:tomas\nnight:x:3003:\n",
    "/etc/netgroup": "people (,ines,)\nplaces (knot,,)\n",
}
NOW = datetime(2026, 11, 20, tzinfo=UTC)
HOST = Host(name="knot", resolves=False, addresses=())


def decide(policy: str, asked: str) -> str:
    """Ask "ACCOUNT [as USER[:GROUP]] COMMAND…"; return the verdict, with "*" where no password is asked."""
    words = asked.split(" ")
    as_whom = words[2] if words[1] == "as" else None
    command = tuple(words[3:] if as_whom else words[1:])
    user, group = run_as_of(as_whom)
    inquiry = Inquiry(bundle(policy + "\n", FILES), None, HOST)
    decision = inquiry.ask(Question(account=words[0], command=command, at=NOW, run_as=user, run_as_group=group)).decision
    return decision.verdict.value + ("*" if decision.password is False else "")


@pytest.mark.parametrize(
    ("policy", "asked", "answer"),
    [
        # within itself an alias is a plain name: real sudo lists both
        ("User_Alias INES = INES, tomas\nINES ALL=/bin/ls", "ines /bin/ls", "allowed"),
        ("Host_Alias KNOT = KNOT\nines KNOT=/bin/ls", "ines /bin/ls", "allowed"),
        ("User_Alias A = B\nUser_Alias B = A\nA ALL=/bin/ls", "ines /bin/ls", "no-rule"),
        # the role and type of SELinux are no aliases: sudo drops the rule
        ("ines ALL=ROLE=ADMIN_R /bin/ls", "ines /bin/ls", "no-rule"),
        # the last match decides, and only a command denies
        ("ines ALL=/bin/ls\nines ALL=!/bin/ls", "ines /bin/ls", "denied"),
        ("ines ALL=ALL\nALL, !ines ALL=!ALL", "ines /bin/ls", "allowed"),
        ("!tomas ALL=ALL", "ines /bin/ls", "no-rule"),
        ("ines !web01=ALL", "ines /bin/ls", "no-rule"),
        ("ines ALL=(!root) ALL", "ines /bin/ls", "no-rule"),
        ("Cmnd_Alias X=/bin/ls, !/bin/cat\nines ALL=!X", "ines /bin/ls", "denied"),
        ("Cmnd_Alias X=/bin/ls, !/bin/cat\nines ALL=!X", "ines /bin/cat", "allowed"),
        ("ines ALL=!!/bin/ls", "ines /bin/ls", "allowed"),
        ("ines ALL=!!!/bin/ls", "ines /bin/ls", "denied"),
        ("ines ALL=! !/bin/ls", "ines /bin/ls", "no-rule"),
        ("ines ALL=/bin/ls\nines ALL=NOTAFTER=20200101000000Z !/bin/ls", "ines /bin/ls", "allowed"),
        ("ines ALL=NOPASSWD: /bin/ls\nines ALL=ALL", "ines /bin/ls", "allowed"),
        # names
        ("INES ALL=ALL", "ines /bin/ls", "allowed"),
        ("NOSUCH ALL=ALL\nKOFI ALL=/bin/ls", "Kofi /bin/ls", "allowed"),
        ("42 ALL=ALL", "42 /bin/ls", "allowed"),
        ("#42 ALL=ALL", "42 /bin/ls", "no-rule"),
        ("#1042 ALL=ALL", "42 /bin/ls", "allowed"),
        ("%gauges ALL=ALL", "vesna /bin/ls", "allowed"),
        ("%:gauges ALL=ALL", "vesna /bin/ls", "no-rule"),
        ("ines ALL=GONE", "ines /bin/ls", "no-rule"),
        ("ines ALL=!GONE, /bin/ls", "ines /bin/ls", "allowed"),
        ("ines ALL=(ALL, !root) ALL", "ines as toor /bin/ls", "allowed"),
        ("ines ALL=(ALL, !#0) ALL", "ines as toor /bin/ls", "no-rule"),
        ("ines ALL=ALL", "ines as toor /bin/ls", "no-rule"),
        ("ines ALL=ALL", "ines as #0 /bin/ls", "allowed"),
        ("in\\x65s ALL=ALL", "ines /bin/ls", "allowed"),
        ('"%gauges" ALL=ALL', "rada /bin/ls", "allowed"),
        ("+people ALL=ALL", "ines /bin/ls", "allowed"),
        ("ines +places=ALL", "ines /bin/ls", "allowed"),
        ("Defaults !use_netgroups\n+people ALL=ALL", "ines /bin/ls", "no-rule"),
        # hosts
        ("ines knot.saltmarsh.example=ALL", "ines /bin/ls", "no-rule"),
        ("ines [^a]*=ALL", "ines /bin/ls", "allowed"),
        ("ines 10.0.0.0/33=ALL", "ines /bin/ls", "no-rule"),
        # run-as
        ("ines ALL=ALL", "ines as root:night /bin/ls", "allowed"),
        ("ines ALL=(ALL) ALL", "ines as tomas:night /bin/ls", "no-rule"),
        ("ines ALL=(ALL) ALL", "ines as tomas:ops /bin/ls", "allowed"),
        ("ines ALL=(ALL:ALL) ALL", "ines as tomas:night /bin/ls", "allowed"),
        ("ines ALL=(tomas:night) ALL", "ines as :night /bin/ls", "allowed"),
        ("ines ALL=(tomas) ALL", "ines as :sudo /bin/ls", "allowed*"),
        ("ines ALL=(:night) ALL", "ines /bin/ls", "no-rule"),
        ("ines ALL=() ALL", "ines /bin/ls", "allowed*"),
        ("ines ALL=() ALL", "ines as tomas /bin/ls", "no-rule"),
        ("ines ALL=(tomas) /bin/a, /bin/b : tern=ALL", "ines as tomas /bin/b", "allowed"),
        ("ines ALL=(tomas) /bin/a : ALL=/bin/b", "ines as tomas /bin/b", "no-rule"),
        ("Runas_Alias R=night\nines ALL=(:R) ALL", "ines as :night /bin/ls", "allowed"),
        # arguments
        ("ines ALL=/bin/ls", "ines /bin/ls -l", "allowed"),
        ('ines ALL=/bin/ls ""', "ines /bin/ls -l", "no-rule"),
        ('ines ALL=/bin/ls ""', "ines /bin/ls ", "no-rule"),
        ('ines ALL=/bin/ls ""', "ines /bin/ls", "allowed"),
        ("ines ALL=/bin/ls *", "ines /bin/ls", "allowed"),
        ("ines ALL=/bin/cat /var/log/*", "ines /bin/cat /var/log/../../etc/shadow x", "allowed"),
        ("ines ALL=sudoedit /etc/*", "ines sudoedit /etc/a/b", "no-rule"),
        ("ines ALL=sudoedit /etc/*", "ines sudoedit /etc/motd", "allowed"),
        ("ines ALL=/bin/ls a   b", "ines /bin/ls a b", "allowed"),
        ("ines ALL=/bin/ls a\\,b\\:c", "ines /bin/ls a,b:c", "allowed"),
        ("ines ALL=/bin/ls [[\\:digit\\:]]", "ines /bin/ls 5", "allowed"),
        ("ines ALL=/bin/ls ^-[la]+$", "ines /bin/ls -la", "allowed"),
        ("ines ALL=/bin/ls ^$", "ines /bin/ls", "allowed"),
        ("ines ALL=^/bin/(ls|cat)$", "ines /bin/cat x", "allowed"),
        ("ines ALL=^(?i)/BIN/LS$", "ines /bin/ls", "allowed"),
        ("ines ALL=^/bin/[$", "ines /bin/ls", "no-rule"),
        ("ines ALL=/usr/bin/sudoedit /etc/motd", "ines sudoedit /etc/motd", "allowed"),
        ("ines ALL=ALL, !sudoedit /etc/motd", "ines sudoedit /etc/motd other", "allowed"),
        ("ines ALL=/bin/", "ines /bin/sub/x", "no-rule"),
        # passwords and options
        ("root ALL=PASSWD: ALL", "root /bin/ls", "allowed*"),
        ("ines ALL=(ALL) ALL", "ines as ines /bin/ls", "allowed*"),
        ("Defaults exempt_group=sudo\nines ALL=ALL", "ines /bin/ls", "allowed*"),
        ("ines ALL=ALL\nDefaults:ines !authenticate", "ines /bin/ls", "allowed*"),
        ("Defaults>tomas !authenticate\nines ALL=(ALL) ALL", "ines as tomas /bin/ls", "allowed*"),
        ("Defaults!/bin/ls !authenticate\nines ALL=ALL", "ines /bin/ls", "allowed*"),
        ("Defaults!/bin/ls authenticate\nDefaults !authenticate\nines ALL=ALL", "ines /bin/ls", "allowed"),
        ("Defaults !root_sudo\nroot ALL=ALL", "root /bin/ls", "no-rule"),
        ("Defaults runas_default=tomas\nines ALL=ALL", "ines as root /bin/ls", "no-rule"),
        ("ines ALL=(ALL) ALL", "ines as #4242 /bin/ls", "denied"),
        ("Defaults runas_allow_unknown_id\nines ALL=(ALL) ALL", "ines as #4242 /bin/ls", "allowed"),
        # what is left of errors
        ("ines ALL=/bin/ls : ALL=oops : ALL=/bin/cat", "ines /bin/cat", "allowed"),
        ("ines ALL=/bin/ls, oops", "ines /bin/ls", "no-rule"),
        ("User_Alias A = ines tomas\nA ALL=/bin/ls", "ines /bin/ls", "allowed"),
        ("User_Alias A = ines\nUser_Alias A = tomas\nA ALL=/bin/ls", "tomas /bin/ls", "no-rule"),
        ("User_Alias A = A, ines\nA ALL=/bin/ls", "ines /bin/ls", "allowed"),
    ],
)
def test_the_answer_is_sudos(policy: str, asked: str, answer: str) -> None:
    assert decide(policy, asked) == answer
