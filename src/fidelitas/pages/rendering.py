"""The report as one file: nothing in it is loaded from elsewhere, and its own policy lets a browser load nothing and run nothing else.

Every text is escaped by the templates; what a browser would obey rather than show, such as marks of direction, is written out.
"""

import base64
import hashlib
from importlib.resources import files
from typing import Any

from jinja2 import BaseLoader, Environment, StrictUndefined, TemplateNotFound
from markupsafe import Markup

from fidelitas import __version__
from fidelitas.pages.content import Content
from fidelitas.pages.week import DAYS
from fidelitas.text import clipped, escape_control

__all__ = ["rendered"]

_LONGEST = 600


def rendered(content: Content) -> str:
    """Return the report as HTML."""
    style, script = _text("style.css"), _text("script.js")
    policy = f"default-src 'none'; style-src '{_digest(style)}'; script-src '{_digest(script)}'; base-uri 'none'; form-action 'none'"
    page = _environment().get_template("report.html.j2")
    return page.render(content=content, style=Markup(style), script=Markup(script), policy=policy, version=__version__, days=DAYS)  # noqa: S704 ours


def _environment() -> Environment:
    return Environment(loader=_Ours(), autoescape=True, undefined=StrictUndefined, finalize=_shown, trim_blocks=True, lstrip_blocks=True)


class _Ours(BaseLoader):
    """The templates of this package."""

    def get_source(self, environment: Environment, template: str) -> tuple[str, str | None, None]:
        try:
            return _text(template), None, None
        except FileNotFoundError:
            raise TemplateNotFound(template) from None


def _shown(value: Any) -> Any:
    """Return a value as it is put into the page: text without what a browser obeys, and not without end."""
    return clipped(escape_control(value), _LONGEST) if isinstance(value, str) and not isinstance(value, Markup) else value


def _text(name: str) -> str:
    return (files(__package__) / "templates" / name).read_text(encoding="utf-8")


def _digest(text: str) -> str:
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"
