"""Clear-text secrets, put out of sight before anything is kept of them.

Knows where programs and configuration files take passwords and tokens: the table ``secrets.toml``, which the probe shares
(``awk_program``), so that a host and its auditor mask the same.  A mask is as many bytes long as the secret was, so that lines and
columns hold; only the length of a secret is given away.
"""

import re
import tomllib
from collections.abc import Iterator
from functools import cache, lru_cache
from importlib import resources

from msgspec import Struct

__all__ = ["Format", "awk_code", "awk_program", "command_line_expressions", "is_masked", "mask", "masked", "masked_lines"]

# The marks of a mask: of three bytes and of two.  Neither is written in a command line or a policy by anyone.
_THREE, _TWO = "•", "¤"
_MARKS = re.compile(f"[{_THREE}{_TWO}]")
# A line longer than this in which something may be secret is masked from here on: nobody writes such a line by hand.
_LONGEST = 16384
# A quoted word is a command line of its own, and so on, to this depth.
_DEPTH = 3


class Format(Struct, frozen=True):
    """How the words of a line end: in shells, sudoers(5), doas.conf(5), JSON."""

    name: str
    word: re.Pattern[str]


_FORMATS = {
    "shell": Format("shell", re.compile(r"""(?:[^ \t"'\\]|\\.|"(?:[^"\\]|\\.)*"|'[^']*')+|["'\\]""")),
    "sudoers": Format("sudoers", re.compile(r"""(?:[^ \t,:="\\]|\\.|"[^"]*")+|[,:=]+|["\\]""")),
    "doas": Format("doas", re.compile(r"""(?:[^ \t"'\\]|\\.|"(?:[^"\\]|\\.)*"|'[^']*')+|["'\\]""")),
    "json": Format("json", re.compile(r"""(?:[^ \t"'\\]|\\[^"]|\\"(?:[^"\\]|\\[^"])*\\"|'[^'"]*')+|["'\\]""")),
}


class _Option(Struct, frozen=True):
    programs: re.Pattern[str] | None
    option: re.Pattern[str]
    value: str
    condition: re.Pattern[str] | None


class _Table(Struct, frozen=True):
    names: str
    not_names: str
    plain_variables: str
    options: tuple[_Option, ...]


def _escapable(expression: str) -> str:
    """Return an expression in which "=" and ":" may have a backslash before them."""
    return re.sub(r"(?<![?(\[^])([=:])(?![\]])", r"\\\\?\1", expression)


def _stated() -> dict[str, object]:
    return tomllib.loads(resources.files(__package__).joinpath("secrets.toml").read_text(encoding="utf-8"))


def _rows() -> Iterator[tuple[str, str, str, str]]:
    """Yield "programs, option, value, with" of each row, as expressions that match whole words or beginnings."""
    for row in _stated()["option"]:  # type: ignore[attr-defined]
        programs = "(^|[^a-z0-9_.-])(" + row["programs"] + ")[\"';)]*$" if "programs" in row else ""
        yield programs, f"^({_escapable(row['option'])})", row["value"], row.get("with", "")


@cache
def _table() -> _Table:
    stated = _stated()
    options = tuple(
        _Option(re.compile(programs) if programs else None, re.compile(option), value, re.compile(condition) if condition else None)
        for programs, option, value, condition in _rows()
    )
    return _Table(str(stated["names"]), str(stated["not_names"]), str(stated["plain_variables"]), options)


@lru_cache(maxsize=1000)
def _rows_about(program: str) -> tuple[_Option, ...]:
    """The rows that a program named last leaves: those of it, and those of any."""
    return tuple(row for row in _table().options if row.programs is None or row.programs.search(program))


@cache
def _any_option() -> re.Pattern[str]:
    return re.compile("|".join(f"(?:{row.option.pattern})" for row in _table().options if row.programs is None))


@cache
def _any_program() -> re.Pattern[str]:
    return re.compile("|".join(f"(?:{row.programs.pattern})" for row in _table().options if row.programs is not None))


# Words are used again: most are not an option, and do not name a program.
@lru_cache(maxsize=5000)
def _may_be_option(bare: str) -> bool:
    return _any_option().search(bare) is not None


@lru_cache(maxsize=5000)
def _is_program(bare: str) -> bool:
    return _any_program().search(bare) is not None


@cache
def _hints() -> re.Pattern[str]:
    """What a line holds in which anything can be secret: a name of such a thing, or a program that takes one by a short option."""
    return re.compile(_hint_expression())


def _hint_expression() -> str:
    names = {name for row in _stated()["option"] if "programs" in row and "with" not in row for name in row["programs"].split("|")}  # type: ignore[attr-defined]
    return f"{_HINT}|(^|[^a-z0-9_.-])({'|'.join(sorted(names))})([^a-z0-9_.-]|$)"


@cache
def _assignment() -> re.Pattern[str]:
    # At the beginning of a word, or in a list within one: username=a,password=b; /token:x of Windows.
    return re.compile(rf"(^|[,;&?{{([/'\"=-])(-*{_table().names})(\\?=|[?]?:=)")


@cache
def _plain_variable() -> re.Pattern[str]:
    return re.compile(rf"{_table().plain_variables}$")


@cache
def _name() -> re.Pattern[str]:
    return re.compile(rf"^-*{_table().names}$")


@cache
def _not_name() -> re.Pattern[str]:
    return re.compile(rf"(^|[,;&?{{([/'\"=-])-*({_table().not_names})$")


# What a line holds in which anything can be secret; most lines hold none of it.
_HINT = "pass|pwd|secret|token|api_?-?key|access_?-?key|private_?-?key|credential|auth[a-z]*:|authorization|cookie|://|_pw|-pw|:om|setenv"
_BLOCK_BEGIN = re.compile(r"-----BEGIN [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----")
_BLOCK_END = re.compile(r"-----END [A-Z0-9 ]*PRIVATE KEY( BLOCK)?-----")
_URL_USER = re.compile(r"[^/:@]*[^/:@\\]\\?:")
_SCHEME = re.compile(r"^(basic|bearer|digest|token|negotiate|apikey|aws4-hmac-sha256)$")
_VARIABLE = re.compile(r"([a-z0-9_]+)=")
_LIST_END = re.compile(r"[],;&})]")
_LEADING = "\"'({[<$`"
_TRAILING = "\"')}]>`;"


def is_masked(text: str) -> bool:
    """Return whether a part of a text was masked."""
    return _MARKS.search(text) is not None


def mask(secret: str) -> str:
    """Return a mask as many bytes long as a secret; of an empty one, nothing."""
    size = len(secret.encode("utf-8", "surrogateescape"))
    if size < 2:
        return "?" * size
    twos = (0, 2, 1)[size % 3]
    return _THREE * ((size - 2 * twos) // 3) + _TWO * twos


def masked(line: str, form: str = "shell") -> str:
    """Return a line without the secrets in it; lengths stay."""
    folded = line.lower() if line.isascii() else _lower(line)
    if not _hints().search(folded):
        return line
    if len(line) > _LONGEST:
        return _masked_words(line[:_LONGEST], _FORMATS[form], folded[:_LONGEST], 0) + mask(line[_LONGEST:])
    return _masked_words(line, _FORMATS[form], folded, 0)


def masked_lines(text: str, form: str = "shell") -> str:
    """Return a text without the secrets in it, private keys of several lines included."""
    inside = False
    out = []
    for line in text.split("\n"):
        if inside:
            inside = not _BLOCK_END.search(line)
            out.append(mask(line) if inside else line)
            continue
        begun = _BLOCK_BEGIN.search(line)
        inside = begun is not None and not _BLOCK_END.search(line)
        if begun is not None and not inside:  # the whole key in one line, its line breaks written as \n
            line = line[: begun.end()] + mask(line[begun.end() :])  # noqa: PLW2901
        out.append(masked(line, form))
    return "\n".join(out)


def _lower(text: str) -> str:
    """Return the text with ASCII letters in lower case: as long as before, as awk has it."""
    return text.translate(_FOLD)


_FOLD = {code: code + 32 for code in range(ord("A"), ord("Z") + 1)}


class _Words:
    """One pass over the words of a line: which program was named last, and what the next word is."""

    def __init__(self, form: Format, line: str, depth: int) -> None:
        self.form, self.line, self.depth = form, line, depth
        self.program = ""
        self.awaited = ""  # how the next word is secret

    def masked(self, word: str, low: str) -> str:
        """Return a word without the secret in it."""
        lead = 0
        while lead < len(low) and (low[lead] in _LEADING or low.startswith('\\"', lead)):
            lead += 2 if low.startswith('\\"', lead) else 1
        bare = low[lead:]
        if self.awaited:
            return self._awaited(word, low, bare)
        if bare in {"|", "||", "&&", ";", "&"} or (self.form.name == "sudoers" and bare == ","):
            self.program = ""
            return word
        if self.depth < _DEPTH and lead and any(blank in bare for blank in " \t"):
            return self._quoted(word, low, lead)
        found = self._found(word, low, bare, lead)
        self._note_program(bare)
        if found is None and self.depth < _DEPTH and (" " in low or "\t" in low):
            inner = min(at for at in (low.find('"'), low.find("'"), len(low)) if at >= 0)  # command="mysql -p…"
            return self._quoted(word, low, inner + 1) if inner < len(low) else word
        return word if found is None else found

    def _awaited(self, word: str, low: str, bare: str) -> str:
        how, self.awaited = self.awaited, ""
        if how == "second":
            self.awaited = "next"
            return word
        if how == "=":
            if bare in {"=", ":="}:
                self.awaited = "next"
                return word
            return self.masked(word, low)
        if how == "header" and _SCHEME.match(bare):
            self.awaited = "next"
            return word
        if self.form.name == "sudoers" and bare in {",", ":", "="}:
            return word
        if how in {"colon", "percent"}:
            return self._after(word, 0, how)
        if how == "next" and bare.startswith("-") and len(bare) > 1 and self.form.name != "json" and " " not in bare:
            return self.masked(word, low)  # another option
        return self._whole(word, 0)

    def _quoted(self, word: str, low: str, lead: int) -> str:
        """Return a quoted word of several words, each looked at by itself."""
        end = len(word)
        while end > lead and word[end - 1] in _TRAILING:
            end -= 1
        inner = _FORMATS["shell"] if self.form.name == "json" else self.form
        return word[:lead] + _masked_words(word[lead:end], inner, low[lead:end], self.depth + 1) + word[end:]

    def _found(self, word: str, low: str, bare: str, lead: int) -> str | None:
        for row in _rows_about(self.program) if self.program or _may_be_option(bare) else ():
            if row.condition is not None and not row.condition.search(self.line):
                continue
            match = row.option.search(bare)
            if match is None:
                continue
            taken = self._taken(row.value, word, lead + match.end(), bare[match.end() :])
            if taken is not None:
                return taken
        scheme = bare.find("://")
        user = _URL_USER.match(bare, scheme + 3) if scheme >= 0 else None
        if user is not None and (at := bare.rfind("@")) > user.end():
            start, end = lead + user.end(), lead + at
            if word[end - 1] == "\\":
                end -= 1
            return word[:start] + mask(word[start:end]) + word[end:]
        return self._assigned(word, low, bare, lead)

    def _taken(self, value: str, word: str, start: int, rest: str) -> str | None:
        """Return the word with the secret after an option masked, or ``None`` where the option is another one that only begins so."""
        if value == "word":
            return self._whole(word, start - 1)
        left = rest.strip(_TRAILING)
        if value in {"next", "second", "header"}:
            if left:
                return self._whole(word, start) if value == "header" else None
            self.awaited = value
            return word
        if not left:
            if value in {"either", "colon", "percent"}:
                self.awaited = "next" if value == "either" else value
                return word
            return None
        if value in {"colon", "percent"}:
            return self._after(word, start, value)
        if value == "quoted" and word[start - 1 : start] != '"':
            return None
        return self._whole(word, start)

    def _after(self, word: str, start: int, how: str) -> str:
        at = word.find(":" if how == "colon" else "%", start)
        return word if at < 0 else self._whole(word, at + 1)

    def _assigned(self, word: str, low: str, bare: str, lead: int) -> str | None:
        if self.form.name == "doas" and "setenv" in self.line and (variable := _VARIABLE.match(bare)) is not None:
            return word if _plain_variable().match(variable[1]) else self._whole(word, lead + variable.end())
        out, at, start = "", 0, 0
        while (match := _assignment().search(bare, start)) is not None:
            name_end = match.end() - len(match[match.lastindex or 0])
            if _not_name().search(low[: lead + name_end]):
                start = match.end()
                continue
            end = len(bare)
            if (match.start() or match[1]) and match[1] != "=":
                listed = _LIST_END.search(bare, match.end())
                end = listed.start() if listed else end
            out += word[at : lead + match.end()] + self._whole(word[lead + match.end() : lead + end], 0)
            at, start = lead + end, end
        if at:
            return out + word[at:]
        if self.form.name != "json" and _name().search(bare) and not _not_name().search(bare):
            self.awaited = "next" if bare.startswith("-") else "="
        return None

    def _whole(self, word: str, start: int) -> str:
        """Return a word masked from `start` on, but for the quotes around."""
        end = len(word)
        while start < end and word[start] in "\"'":
            start += 1
        while start + 1 < end and word.startswith('\\"', start):
            start += 2
        while end > start and word[end - 1] in "\"';)}":
            end -= 2 if word[end - 2 : end] == '\\"' and end - 2 >= start else 1
        secret = word[start:end]
        if not secret or secret[0] in "$`" or secret.startswith(("%{", "{{")) or is_masked(secret):
            return word
        return word[:start] + mask(secret) + word[end:]

    def _note_program(self, bare: str) -> None:
        named = "/" in bare or "=" in bare or "a" <= bare[:1] <= "z"
        if named and _is_program(bare):
            self.program = bare
        elif bare.endswith((";", "|")):
            self.program = ""


def _masked_words(line: str, form: Format, folded: str, depth: int) -> str:
    words = _Words(form, folded, depth)
    out, at = [], 0
    for found in form.word.finditer(line):
        out.append(line[at : found.start()])
        out.append(words.masked(found[0], folded[found.start() : found.end()]))
        at = found.end()
    return "".join(out) + line[at:]


# In an expression of .NET: a value in quotes (those of XML too) or a word; and what an option stands behind.
_VALUE = r"""((?<=&quot;)(?:(?!&quot;).)+|(?<=["'])[^"'<]+|(?!&quot;)[^\s"'<>|&/*-][^\s"'<>|&]*)"""
_QUOTE = r"""(?:&quot;|["'])?"""
_ATTACHED = rf"\s*{_QUOTE}"
_BETWEEN = {
    "attached": _QUOTE, "next": rf"\s+{_QUOTE}", "either": _ATTACHED, "colon": r"\s*[^\s:]*:", "percent": r"\s*[^\s%]*%",
    "second": rf"\s+\S+\s+{_QUOTE}", "header": r"\s*(?:(?:basic|bearer|digest|token|negotiate|apikey)\s+)?", "quoted": "",
}  # fmt: skip


def command_line_expressions() -> list[str]:
    """Return the table as expressions that .NET and Python read alike, for whole command lines and events in XML.

    Each has two groups: what stays, and the secret.  They are coarser than `masked`, which knows words: they mask rather too much.
    """
    stated = _stated()
    names = f"(?:{stated['names']})"
    found = [
        rf"((?:^|[\s,;?{{([/'\"=>-])-*{names}(?:=|:=|:(?!//))\s*{_QUOTE}){_VALUE}",
        rf"([-/]{names}\s+{_QUOTE}){_VALUE}",
        r"(://[^/\s:@]*:)([^@\s/<]+(?=@))",
    ]
    for row in stated["option"]:  # type: ignore[attr-defined]
        if "with" in row or row["value"] not in _BETWEEN:
            continue
        program = (
            rf"(?<![a-z0-9_.-])(?:{row['programs']})(?:\.exe)?{_QUOTE}\s(?:[^|<]{{0,2000}}?\s)??"
            if "programs" in row
            else r"(?:^|[\s\"';>])"
        )
        found.append(rf"({program}(?:{row['option']}){_BETWEEN[row['value']]}){_VALUE}")
    return found


def awk_code() -> str:
    """Return the program that masks with the table, in awk."""
    return resources.files(__package__).joinpath("mask.awk").read_text(encoding="utf-8")


def awk_program() -> str:
    """Return the table in the form that ``mask.awk`` reads, a row a line; fields end with a tab."""
    stated = _stated()
    heads = [
        ("names", str(stated["names"])),
        ("not", str(stated["not_names"])),
        ("plain", str(stated["plain_variables"])),
        ("hint", _hint_expression()),
    ]
    rows = [*(("head", *head) for head in heads), *_rows()]
    return "".join("\t".join(row) + "\n" for row in rows)
