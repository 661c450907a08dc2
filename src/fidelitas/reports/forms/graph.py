"""Routes as pictures: in the language of Graphviz, and as SVG, which needs nothing to be shown.

In the language of Graphviz all routes are one graph; in SVG each is a row.  The SVG has no script and loads nothing.
"""

from textwrap import wrap
from xml.etree import ElementTree as ET

from fidelitas.errors import RequestError
from fidelitas.reports.drawing import DrawnRoute, Step
from fidelitas.reports.forms.screen import Screen
from fidelitas.reports.report import Report
from fidelitas.text import clipped, escape_control

__all__ = ["render_dot", "render_svg"]

_LONGEST = 300
_BOX, _GAP, _HIGH, _ROW, _EDGE = 170, 260, 40, 150, 20
_STYLE = (
    "svg{background:#fff}text{font:13px system-ui,'DejaVu Sans',sans-serif;fill:#1c2330}.small{font-size:11px;fill:#4d5766}"
    ".title{font-weight:700}rect{fill:#f3f5f8;stroke:#4d5766}.end{fill:#fbe4e6;stroke:#8f1220}"
    "line{stroke:#1c2330;stroke-width:1.5}.doubt{stroke-dasharray:6 4}"
)


def render_dot(report: Report, screen: Screen) -> str:  # noqa: ARG001 as every form
    """Return routes in the DOT language; raises `RequestError` for a report without any."""
    lines = [
        "digraph routes {",
        "  rankdir=LR;",
        '  node [shape=box, fontname="sans-serif"];',
        '  edge [fontname="sans-serif", fontsize=10];',
    ]
    seen: set[Step] = set()
    for route in _routes(report):
        for step in route.steps:
            if step not in seen:
                seen.add(step)
                label = f"{_quoted(step.because)[:-1]}\\n{_quoted(step.place)[1:]}"
                style = "" if step.sure else ", style=dashed"
                lines.append(f"  {_quoted(step.source)} -> {_quoted(step.target)} [label={label}{style}];")
    return "\n".join([*lines, "}", ""])


def render_svg(report: Report, screen: Screen) -> str:  # noqa: ARG001 as every form
    """Return routes as SVG, a row each; raises `RequestError` for a report without any."""
    routes = _routes(report)
    width = _EDGE * 2 + max([len(route.steps) for route in routes] or [0]) * (_BOX + _GAP) + _BOX
    height = _EDGE * 2 + len(routes) * _ROW
    root = ET.Element("svg", xmlns="http://www.w3.org/2000/svg", width=str(width), height=str(height), viewBox=f"0 0 {width} {height}")
    ET.SubElement(root, "style").text = _STYLE
    marks = ET.SubElement(
        ET.SubElement(root, "defs"),
        "marker",
        id="tip",
        viewBox="0 0 8 8",
        refX="8",
        refY="4",
        markerWidth="8",
        markerHeight="8",
        orient="auto",
    )
    ET.SubElement(marks, "path", d="M0 0 L8 4 L0 8 z")
    for number, route in enumerate(routes):
        _row(root, route, _EDGE + number * _ROW)
    ET.indent(root, " ")
    return ET.tostring(root, encoding="unicode") + "\n"


def _routes(report: Report) -> list[DrawnRoute]:
    if report.routes is None:
        raise RequestError("this answer has no route to draw", hint="fidelitas why has.")
    return list(report.routes())


def _row(root: ET.Element, route: DrawnRoute, top: int) -> None:
    _text(root, _EDGE, top + 12, route.title, "title")
    middle = top + 28 + _HIGH // 2
    for number, step in enumerate(route.steps):
        left = _EDGE + number * (_BOX + _GAP)
        _box(root, left, top + 28, step.source, last=False)
        line = {"x1": str(left + _BOX), "y1": str(middle), "x2": str(left + _BOX + _GAP), "y2": str(middle), "marker-end": "url(#tip)"}
        ET.SubElement(root, "line", attrib={**line, **({} if step.sure else {"class": "doubt"})})
        for at, part in enumerate(wrap(_shown(step.because), 44)[:3]):
            _text(root, left + _BOX + 8, middle + 16 + at * 14, part, "small")
        _text(root, left + _BOX + 8, middle - 8, clipped(_shown(step.place), 42), "small")
    if route.steps:
        _box(root, _EDGE + len(route.steps) * (_BOX + _GAP), top + 28, route.steps[-1].target, last=True)


def _box(root: ET.Element, left: int, top: int, name: str, *, last: bool) -> None:
    box = ET.SubElement(root, "rect", x=str(left), y=str(top), width=str(_BOX), height=str(_HIGH), rx="4")
    if last:
        box.set("class", "end")
    ET.SubElement(box, "title").text = _shown(name)
    _text(root, left + 8, top + _HIGH // 2 + 5, clipped(_shown(name), 24), "")


def _text(root: ET.Element, left: int, base: int, text: str, kind: str) -> None:
    found = ET.SubElement(root, "text", x=str(left), y=str(base))
    found.text = _shown(text)
    if kind:
        found.set("class", kind)


def _shown(text: str) -> str:
    return clipped(escape_control(text), _LONGEST)


def _quoted(text: str) -> str:
    """Return a text as a quoted string of the DOT language."""
    escaped = _shown(text).replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'
