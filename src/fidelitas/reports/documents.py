"""Holdings, routes and links as parts of JSON documents: the codes, and the words beside them."""

from typing import Any

from fidelitas.reports.places import place_document
from fidelitas.reports.provenance import UNTOLD, Provenance, since_document
from fidelitas.rights import Holding, Link, LinkKind, Route, SubjectRights

__all__ = ["holding_document", "link_document", "route_document"]


def link_document(link: Link, provenance: Provenance = UNTOLD) -> dict[str, Any]:
    """Return the JSON form of a link."""
    return {
        "from": str(link.source),
        "to": str(link.target),
        "kind": link.kind.value,
        "strength": str(link.strength),
        "mechanism": link.mechanism.value,
        "by": link.by.name,
        "because": link.because,
        "rule": link.quote or None,
        "password": link.asks or None,
        "conditions": list(link.conditions),
        "place": place_document(link.place),
        "behind": [place_document(place) for place in link.behind],
        "since": since_document(link, provenance.get(link.place.subject)),
    }


def route_document(route: Route, provenance: Provenance = UNTOLD) -> dict[str, Any]:
    """Return the JSON form of a route."""
    return {
        "strength": str(route.strength),
        "conditions": list(route.conditions),
        "links": [link_document(link, provenance) for link in route.links],
    }


def holding_document(host: SubjectRights, holding: Holding, provenance: Provenance = UNTOLD) -> dict[str, Any]:
    """Return the JSON form of a holding."""
    account = host.in_brief(holding.principal)
    return {
        "subject": host.subject,
        "holder": {
            "name": str(holding.principal),
            "kind": holding.principal.kind.value,
            "uid": account.uid if account else None,
            "account_kind": account.kind.value if account else None,
            "login": account.login.value if account else None,
            "can_log_in": account.login.possible if account else None,
        },
        "right": str(holding.right),
        "strength": str(holding.strength),
        "how": holding.routes[0].kind.value,
        "now": any(route.kind is LinkKind.HAS for route in holding.routes),
        "routes": [route_document(route, provenance) for route in holding.routes],
        "routes_not_shown": holding.cut,
    }
