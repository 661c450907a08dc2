"""Settings, their values and where each comes from."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from fidelitas.configuration import SETTINGS, Value
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["settings_report"]


def settings_report(values: Mapping[str, Value], files: Sequence[Path]) -> Report:
    """Return all settings; `files` are those that were looked for, the one that counts least first."""
    rows = [(name, values.get(name), setting.about) for name, setting in SETTINGS.items()]
    table = Table(
        columns=("setting", "value", "from", "about"),
        rows=tuple((name, _shown(value), value.origin if value else "default", about) for name, value, about in rows),
        may_fold=frozenset({"about"}),
        least=("about",),
    )
    return Report(
        answer=lambda: [f"{len(values)} of {len(SETTINGS)} settings are set; looked for in {', '.join(map(str, files))}"],
        parts=lambda: [table],
        document=lambda: {
            "schema": "fidelitas/settings/1",
            "files": [str(file) for file in files],
            "settings": {name: None if value is None else {"value": value.value, "from": value.origin} for name, value, _ in rows},
        },
    )


def _shown(value: Value | None) -> str:
    return "" if value is None else str(value.value).lower() if isinstance(value.value, bool) else value.value
