"""The subjects of an estate, as its file declares them: a table, and the JSON document `estate`."""

from typing import Any

from fidelitas.estate import Estate, HostEntry, ServerEntry, Shell
from fidelitas.reports.report import Report
from fidelitas.reports.table import Table

__all__ = ["estate_report"]


def estate_report(estate: Estate) -> Report:
    """Return a row for each subject."""
    rows = (*(_host_row(host) for host in estate.hosts), *(_server_row(server) for server in estate.servers))
    table = Table(
        columns=("subject", "kind", "address", "root by", "tags"),
        rows=rows,
        may_fold=frozenset({"tags"}),
        empty="The estate has no subject with these tags.",
    )
    return Report(parts=lambda: [table], document=lambda: _document(estate))


def _host_row(host: HostEntry) -> tuple[str, ...]:
    account = f"{host.user}@" if host.user else ""
    port = f":{host.port}" if host.port else ""
    root = host.elevation.value if host.collector is None else f"{host.elevation.value} {host.collector}"
    if host.shell is Shell.POWERSHELL:
        root = "powershell, as an administrator"
    platform = "windows" if host.shell is Shell.POWERSHELL else "linux"
    return host.name, platform, f"{account}{host.address}{port}", root, " ".join(host.tags)


def _server_row(server: ServerEntry) -> tuple[str, ...]:
    return server.shown, server.kind, server.uri, "", " ".join(server.tags)


def _document(estate: Estate) -> dict[str, Any]:
    return {
        "schema": "fidelitas/estate/1",
        "hosts": [
            {
                "name": host.name,
                "address": host.address,
                "port": host.port,
                "user": host.user,
                "identity": host.identity,
                "elevation": host.elevation.value,
                "shell": host.shell.value,
                "collector": host.collector,
                "deadline_seconds": host.deadline,
                "tags": list(host.tags),
                "line": host.line,
            }
            for host in estate.hosts
        ],
        "servers": [
            {"name": one.name, "kind": one.kind, "uri": one.uri, "tags": list(one.tags), "line": one.line} for one in estate.servers
        ],
    }
