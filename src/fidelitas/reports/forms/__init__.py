"""The forms of a report, one module each.

All text of a report may come from hostile evidence; each form makes it safe for where it goes.  A further form is a module with a function
from a report to text, or to pieces of it, and a line of the table here.
"""

from collections.abc import Callable, Iterator

from fidelitas.reports.forms import comma, documents, graph, junit, lines, markdown, ocsf, sarif, terminal
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report

__all__ = ["FORMS", "OF_ISSUES", "OF_ROUTES", "Screen", "render"]

FORMS: dict[str, Callable[[Report, Screen], str | Iterator[str]]] = {
    "table": terminal.render,
    "json": documents.render,
    "jsonl": lines.render,
    "csv": comma.render,
    "markdown": markdown.render,
    "sarif": sarif.render,
    "junit": junit.render,
    "ocsf": ocsf.render,
    "dot": graph.render_dot,
    "svg": graph.render_svg,
}


# Forms of answers that are about things that are wrong.
OF_ISSUES = frozenset({"sarif", "junit", "ocsf"})
# Forms of answers that are routes.
OF_ROUTES = frozenset({"dot", "svg"})


def render(report: Report, form: str, screen: Screen) -> Iterator[str]:
    """Yield a report as pieces of text in one of the `FORMS`, for a terminal or, without width and colour, for a pipe."""
    text = FORMS[form](report, screen)
    yield from (text,) if isinstance(text, str) else text
