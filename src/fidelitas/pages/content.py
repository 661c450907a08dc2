"""What the report says: for a manager in sentences and pictures, for an engineer each finding and holding with its evidence."""

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import date, datetime

from msgspec import Struct, field

from fidelitas.charter import AcceptedFinding, Sanctions
from fidelitas.evidence import Bundle
from fidelitas.facts import Gap
from fidelitas.findings import Finding, Severity
from fidelitas.pages.evidence import Excerpt, Excerpts
from fidelitas.pages.held import Everything, Held, alike_in, everything_held
from fidelitas.pages.persons import HeldUsed, PersonPart, held_and_used, persons_of
from fidelitas.pages.pictures import Bar, Matrix, Trend, bars_of, matrix_of
from fidelitas.pages.week import Week
from fidelitas.people import MappedPerson, Owners
from fidelitas.reports.control import administrators, controls_of, escalations, in_control
from fidelitas.reports.findings import Group, grouped
from fidelitas.reports.numbers import counted, first_names, listed
from fidelitas.reports.sentences import brief
from fidelitas.reports.subjects import words_of
from fidelitas.rights import FullControl, Holding, Principal, PrincipalKind, SubjectRights
from fidelitas.usage import Latest

__all__ = ["Asked", "Content", "FindingPart", "GapRow", "HeldRow", "Standing", "SubjectPart", "content_of"]

_WORST = 5
_MOST_NAMED = 3
_MOST_PLACES = 4  # of a finding


class Standing(Struct, frozen=True, kw_only=True):
    """What a charter and reviews say: `lines` in words, those that are overdue first."""

    lines: tuple[str, ...] = ()
    overdue: int = 0


class Asked(Struct, frozen=True, kw_only=True):
    """What a report is made of.

    `survey` names it, `since` are lines on what changed since the one before, `trend` counts of earlier ones.  `evidence` gives what was
    read of a subject; `tags` the tags of each; `latest` are the last uses on the subjects whose logs were read (`logged`), `week` all uses
    by the clock.
    """

    survey: str
    subjects: Sequence[SubjectRights]
    findings: Sequence[Finding]
    evidence: Callable[[str], Bundle | None]
    tags: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    since: Sequence[str] = ()
    people: Sequence[MappedPerson] = ()
    sanctions: Sanctions | None = None
    accepted: Sequence[tuple[Finding, AcceptedFinding]] = ()
    standing: Standing = field(default_factory=Standing)
    trend: Trend = field(default_factory=Trend)
    week: Week = field(default_factory=Week)
    latest: Mapping[str, Latest] = field(default_factory=dict)
    logged: Collection[str] = ()
    glossary: Sequence[tuple[str, str]] = ()


class FindingPart(Struct, frozen=True, kw_only=True):
    """Findings that say the same, with their evidence; `routes` are holdings that a place of the first is a link of."""

    number: int
    group: Group
    where: str
    excerpts: tuple[Excerpt, ...]
    routes: tuple["HeldRow", ...] = ()
    more_routes: int = 0

    @property
    def finding(self) -> Finding:
        """The one that stands for all."""
        return self.group.first


class HeldRow(Struct, frozen=True, kw_only=True):
    """One holding, as a row: who, what, how, and the excerpts of its strongest route; `others` are systems on which it is the same."""

    number: int
    subject: str
    others: str
    on: str
    holder: str
    person: str
    right: str
    how: str
    steps: tuple[tuple[str, Excerpt | None], ...]
    strength: str
    conditions: tuple[str, ...]
    sanction: str


class GapRow(Struct, frozen=True):
    """What was not read, on which systems, why, and what it weakens."""

    systems: str
    what: str
    why: str
    weakens: str


class SubjectPart(Struct, frozen=True, kw_only=True):
    """One subject: what it is, how many administer it or could, its findings by severity, and how much was not read.

    `like` is the equal one under whose name the holdings are, if there is another.
    """

    name: str
    like: str
    system: str
    tags: tuple[str, ...]
    taken: datetime
    administrators: str
    escalations: str
    worst: str
    gaps: int


class Content(Struct, frozen=True, kw_only=True):
    """Everything that is on the page; `beyond` is of how many holdings the table has how many, where it has not all."""

    survey: str
    taken: str
    sentences: tuple[str, ...]
    worst: tuple[tuple[FindingPart, str], ...]
    since: tuple[str, ...]
    standing: Standing
    subjects: tuple[SubjectPart, ...]
    findings: tuple[FindingPart, ...]
    accepted: tuple[tuple[Finding, AcceptedFinding], ...]
    held: tuple[HeldRow, ...]
    beyond: tuple[int, int]
    gaps: tuple[GapRow, ...]
    excerpts: tuple[Excerpt, ...]
    people: tuple[PersonPart, ...]
    held_used: tuple[HeldUsed, ...]
    matrix: Matrix
    severities: tuple[Bar, ...]
    coverage: tuple[Bar, ...]
    trend: Trend
    week: Week
    glossary: tuple[tuple[str, str], ...]


def content_of(asked: Asked) -> Content:
    """Return what the report says of an audit."""
    excerpts, owners = Excerpts(asked.evidence), Owners(asked.people)
    systems = alike_in(asked.subjects, lambda name: asked.sanctions is not None or owners.mention(name))
    groups = grouped(asked.findings)
    every = everything_held(systems, lambda subject, holding: _whose(subject, holding, owners), [group.first for group in groups])
    shown = [tuple(excerpts.of(place) for place in group.first.places[:_MOST_PLACES]) for group in groups]
    held = {one.number: _held(one, asked, excerpts) for one in every.shown}
    findings = tuple(_finding(number, group, shown[number], every, held) for number, group in enumerate(groups))
    controls = controls_of(asked.subjects)
    people = persons_of(every, systems, _last_used(asked, owners), asked.logged)
    reach = {person: one.reach for person, one in every.people.items()}
    gaps = tuple(gap for one in asked.subjects for gap in one.gaps)
    severities, like = _severities(asked.findings), {name: one.names[0] for one in systems for name in one.names}
    return Content(
        survey=asked.survey,
        taken=_taken(asked.subjects),
        sentences=tuple(_sentences(asked, controls, gaps)),
        worst=tuple((part, counted(len(part.group.subjects), "system")) for part in findings[:_WORST]),
        since=tuple(asked.since),
        standing=asked.standing,
        subjects=tuple(
            _subject(one, like[one.subject], controls[one.subject], severities.get(one.subject, Counter()), asked) for one in asked.subjects
        ),
        findings=findings,
        accepted=tuple(asked.accepted),
        held=tuple(held.values()),
        beyond=_beyond(every),
        gaps=tuple(_gap_rows(gaps)),
        excerpts=excerpts.every,
        people=people,
        held_used=held_and_used(people),
        matrix=matrix_of(reach, [one.names for one in systems]),
        severities=bars_of(Counter(str(one.severity) for one in asked.findings), [str(severity) for severity in Severity]),
        coverage=bars_of(Counter("with gaps" if one.gaps else "complete" for one in asked.subjects), ["complete", "with gaps"]),
        trend=asked.trend,
        week=asked.week,
        glossary=tuple(asked.glossary),
    )


def _beyond(every: Everything) -> tuple[int, int]:
    rows = sum(len(one.alike.names) for one in every.shown)
    return (every.count, rows) if rows < every.count else (0, 0)


def _gap_rows(gaps: Sequence[Gap]) -> Iterator[GapRow]:
    """Yield what was not read, once for all systems of which it is the same."""
    together: dict[tuple[str, str, str], dict[str, None]] = {}
    for gap in gaps:
        together.setdefault((gap.what, gap.why, gap.weakens), {})[gap.place.subject] = None
    for (what, why, weakens), systems in together.items():
        yield GapRow(first_names(list(systems)), what, why, weakens)


def _severities(findings: Sequence[Finding]) -> dict[str, Counter[Severity]]:
    found: dict[str, Counter[Severity]] = {}
    for one in findings:
        found.setdefault(one.subject, Counter())[one.severity] += 1
    return found


def _taken(subjects: Sequence[SubjectRights]) -> str:
    """Return when the evidence was read: a day, or from one to another."""
    days = sorted({f"{one.taken:%Y-%m-%d}" for one in subjects})
    return days[0] if len(days) == 1 else f"{days[0]} to {days[-1]}" if days else ""


def _sentences(asked: Asked, controls: Mapping[str, FullControl], gaps: Sequence[Gap]) -> list[str]:
    """Return the answers for a reader in a hurry."""
    granted, others = in_control(controls, asked.people)
    where = [subject for subject, control in controls.items() if control.granted or control.obtaining]
    every = [subject for subject, control in controls.items() if control.anyone is not None]
    said = "people and accounts" if asked.people else "accounts"
    sentences = [f"{len(granted)} {said} have full control of {len(where)} of {counted(len(asked.subjects), 'system')}."]
    if others:
        sentences.append(f"{len(others)} more can obtain it by a weakness.")
    if every:
        sentences.append(f"On {_named(every)} every account can obtain full control.")
    grave = Counter(one.severity for one in asked.findings)
    worst = [f"{grave[severity]} {severity}" for severity in (Severity.CRITICAL, Severity.HIGH) if grave[severity]]
    sentences.append(f"{' and '.join(worst)} problems need action." if worst else "No critical or high problem was found.")
    if asked.standing.overdue:
        sentences.append(f"{counted(asked.standing.overdue, 'decision')} of the charter or of a review are overdue.")
    weakened = {gap.place.subject for gap in gaps}
    sentences.append(
        f"Not everything could be read on {_named(weakened)}: what is said of these can be incomplete."
        if gaps
        else "Everything that was looked for could be read."
    )
    return sentences


def _named(subjects: Collection[str]) -> str:
    """Return a few names in words, or how many there are."""
    names = sorted(subjects)
    if len(names) > _MOST_NAMED:
        return counted(len(names), "system")
    return " and ".join(filter(None, (", ".join(names[:-1]), names[-1])))


def _last_used(asked: Asked, owners: Owners) -> dict[tuple[str, str], date]:
    """Return the day of the last use by subject and person; logs can name an account otherwise than the subject does."""
    found: dict[tuple[str, str], date] = {}
    by_name = {one.subject: one for one in asked.subjects}
    for subject, latest in asked.latest.items():
        for account, at in latest.by_person.items():
            key, day = (subject, _person_of(subject, by_name.get(subject), account, owners)), at.date()
            found[key] = max(day, found.get(key, day))
    return found


def _person_of(subject: str, one: SubjectRights | None, account: str, owners: Owners) -> str:
    if one is None:  # its logs alone were read
        holder = Principal(kind=PrincipalKind.ACCOUNT, name=account, subject=subject)
        return next((person.name for person in owners.of(subject, holder)), account)
    meant = one.accounts_meant(account)
    return owners.name_of(one, meant[0] if len(meant) == 1 else account)


def _finding(number: int, group: Group, excerpts: Sequence[Excerpt | None], every: Everything, held: Mapping[int, HeldRow]) -> FindingPart:
    through = every.through[number]
    gravest = through.in_order
    return FindingPart(
        number=number + 1,
        group=group,
        where=listed(group.subjects, 6, "system"),
        excerpts=tuple(one for one in excerpts if one is not None),
        routes=tuple(held[one.number] for one in gravest),
        more_routes=through.count - len(gravest),
    )


def _whose(subject: str, holding: Holding, owners: Owners) -> str:
    return next((person.name for person in owners.of(subject, holding.principal)), str(holding.principal))


def _held(one: Held, asked: Asked, excerpts: Excerpts) -> HeldRow:
    holding = one.holding
    route = holding.routes[0]
    sanction = asked.sanctions.judge(holding).sanction.value if asked.sanctions is not None else ""
    steps = tuple((f"{link.source} → {link.target}: {link.because}", excerpts.of(link.place)) for link in route.links)
    return HeldRow(
        number=one.number,
        subject=one.alike.names[0],
        others=first_names(one.alike.names[1:]),
        on=one.alike.on,
        holder=str(holding.principal),
        person=one.person,
        right=str(holding.right),
        how=brief(route),
        steps=steps,
        strength=str(holding.strength),
        conditions=route.conditions,
        sanction=sanction,
    )


def _subject(one: SubjectRights, like: str, control: FullControl, found: Mapping[Severity, int], asked: Asked) -> SubjectPart:
    worst = [f"{found[severity]} {severity}" for severity in Severity if found.get(severity)]
    return SubjectPart(
        name=one.subject,
        like=like if like != one.subject else "",
        system=words_of(one).system(one),
        tags=asked.tags.get(one.subject, ()),
        taken=one.taken,
        administrators=administrators(control),
        escalations=escalations(control),
        worst=", ".join(worst[:3]) or "none",
        gaps=len(one.gaps),
    )
