"""Figures of the use of privilege: when, how much fails, and which rights are used at all.

Drawn without a display.  Each is returned as a file's content, by its name.
"""

import io
from collections import Counter
from collections.abc import Iterator, Sequence
from datetime import date, datetime, timedelta, tzinfo

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from fidelitas.facts import EventKind
from fidelitas.rights import AccountKind, Holding, HostRights, PrincipalKind, RightKind
from fidelitas.text import escape_control, short_host_name
from fidelitas.usage import AttributedEvent

__all__ = ["figures"]

_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
_USED = frozenset({EventKind.USED, EventKind.REFUSED})
# From the palette of Okabe and Ito, told apart with any colour vision.
_BLUE, _ORANGE, _RED, _GREY = "#0072B2", "#E69F00", "#D55E00", "#BBBBBB"
_FAILURES = (
    (EventKind.FAILED, "wrong passwords", _ORANGE),
    (EventKind.REFUSED, "refused by policy", _RED),
    (EventKind.LOGIN_FAILED, "failed logins", _GREY),
)
_MOST_PEOPLE = 30
_SIZE = (10.0, 6.0)
# Host, person, and the account or program used.
_Use = tuple[str, str, str]


def figures(records: Sequence[AttributedEvent], hosts: Sequence[HostRights], zone: tzinfo) -> Iterator[tuple[str, bytes]]:
    """Yield name and content of each figure, as PNG and as SVG; that of rights only where a survey tells them."""
    drawn = [("use-by-hour", _by_hour(records, zone)), ("failures", _failures(records, zone))]
    if hosts:
        drawn.append(("rights-used", _rights(records, hosts)))
    for name, figure in drawn:
        for form in ("png", "svg"):
            out = io.BytesIO()
            with mpl.rc_context({"svg.hashsalt": "fidelitas"}):
                figure.savefig(out, format=form, dpi=110, metadata={"Date": None} if form == "svg" else {"Software": None})
            yield f"{name}.{form}", out.getvalue()


def _figure() -> tuple[Figure, Axes]:
    figure = Figure(figsize=_SIZE, layout="constrained")
    return figure, figure.add_subplot()


def _by_hour(records: Sequence[AttributedEvent], zone: tzinfo) -> Figure:
    """Hours of the day by days of the week."""
    mine = [record for record in records if record.event.kind in _USED and record.person]
    counts = np.zeros((7, 24))
    for record in mine:
        if record.event.at is not None:
            at = record.event.at.astimezone(zone)
            counts[at.weekday(), at.hour] += 1
    people = sorted({record.person for record in mine})
    figure, axes = _figure()
    image = axes.imshow(np.where(counts > 0, counts, np.nan), aspect="auto", cmap="viridis_r", vmin=0)
    axes.set_xticks(range(24), [str(hour) for hour in range(24)])
    axes.set_yticks(range(7), _DAYS)
    axes.set_xlabel(f"hour of the day ({datetime.now(zone).tzname()})")
    axes.set_title(
        f"Use of privilege by {escape_control(people[0]) if len(people) == 1 else f'{len(people)} people'}: {len(mine)} uses and attempts"
    )
    for day, hour in zip(*np.nonzero(counts), strict=True):
        dark = counts[day, hour] > counts.max() / 2
        axes.text(hour, day, f"{counts[day, hour]:.0f}", ha="center", va="center", fontsize=8, color="white" if dark else "black")
    figure.colorbar(image, ax=axes, label="uses and attempts")
    return figure


def _failures(records: Sequence[AttributedEvent], zone: tzinfo) -> Figure:
    """Failures of each sort, day by day."""
    days: dict[EventKind, Counter[date]] = {kind: Counter() for kind, _, _ in _FAILURES}
    dates: list[date] = []
    for record in records:
        event = record.event
        if event.at is not None:
            dates.append(event.at.astimezone(zone).date())
            if event.kind in days:
                days[event.kind][dates[-1]] += max(event.times, 1)
    figure, axes = _figure()
    if dates:
        span = [min(dates) + timedelta(days=number) for number in range((max(dates) - min(dates)).days + 1)]
        bottom = np.zeros(len(span))
        for kind, label, colour in _FAILURES:
            heights = np.array([days[kind][day] for day in span], dtype=np.float64)
            axes.bar(
                np.array(span, dtype="datetime64[D]"),
                heights,
                bottom=bottom,
                width=0.9,
                color=colour,
                label=f"{label} ({heights.sum():.0f})",
            )
            bottom += heights
        axes.legend()
        axes.set_ylim(0, max(bottom.max() * 1.15, 1))
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_ylabel("a day")
    axes.set_title("Attempts that failed")
    return figure


def _rights(records: Sequence[AttributedEvent], hosts: Sequence[HostRights]) -> Figure:
    """Of the rights that each account holds, counted on every host, how many the logs show used."""
    used = {use for record in records if record.event.kind is EventKind.USED for use in _uses(record)}
    held: Counter[str] = Counter()
    shown: Counter[str] = Counter()
    for host in hosts:
        for holding in host.own_holdings:
            account = host.in_brief(holding.principal)
            if holding.principal.kind is PrincipalKind.ACCOUNT and account is not None and account.kind is AccountKind.PERSON:
                held[holding.principal.name] += 1
                shown[holding.principal.name] += (short_host_name(host.subject), holding.principal.name, _thing(holding)) in used
    rows = sorted(held, key=lambda name: (-(held[name] - shown[name]), name))[:_MOST_PEOPLE]
    figure, axes = _figure()
    lines = np.arange(len(rows))
    axes.barh(lines, [held[name] for name in rows], color=_GREY, label="held")
    axes.barh(lines, [shown[name] for name in rows], color=_BLUE, label="used, by the logs")
    axes.set_yticks(lines, [escape_control(name) for name in rows], fontsize=8)
    axes.invert_yaxis()
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("rights, counted on every host")
    axes.set_title("Rights held, and rights used")
    axes.legend(loc="lower right")
    return figure


def _uses(record: AttributedEvent) -> Iterator[_Use]:
    """Yield the account that was acted as, and the program that was run."""
    event = record.event
    for thing in (event.target or "root", event.command.partition(" ")[0]):
        yield short_host_name(event.host), record.person, thing


def _thing(holding: Holding) -> str:
    """Return what a use of a right would show: the account, or the program."""
    if holding.right.kind is RightKind.ROOT:
        return "root"
    return holding.right.detail.partition(" ")[0]
