"""Who did what, over HTTP."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from datetime import datetime
from typing import Any

from django.db.models import Exists, OuterRef, QuerySet
from django.http import HttpRequest, StreamingHttpResponse
from ninja import Field, Query, Router, Schema

from stonekettle.report.spreadsheet import harmless
from stonekettle.server.access.roles import actor_of
from stonekettle.server.acts import tell
from stonekettle.server.history.models import Deed

router = Router(tags=["history"])
PAGE = 50
PIECE = 500
MOST_PEOPLE = 500


class ChangeLine(Schema):
    """A part that changed; what was not there is null."""

    path: str
    before: Any
    after: Any


class DeedLine(Schema):
    """Somebody ``did`` something to an object of a ``kind``. ``address`` is where from."""

    id: int
    at: datetime
    who: str
    role: str
    address: str
    did: str
    kind: str
    object_id: int | None
    object_name: str
    note: str
    changes: list[ChangeLine]


class DeedFilter(Schema):
    """Which deeds: of a person, a kind, an object, a word of what was done or its name; older than ``before``."""

    who: str = Field("", max_length=150)
    kind: str = Field("", max_length=20)
    object: int | None = None
    text: str = Field("", max_length=100)
    since: datetime | None = None
    until: datetime | None = None
    before: int | None = None


class DeedPage(Schema):
    deeds: list[DeedLine]
    more: bool


class DeedChoices(Schema):
    """What one may choose from."""

    people: list[str]
    kinds: list[str]


@router.get("/deeds", response=DeedPage)
def list_deeds(request: HttpRequest, only: Query[DeedFilter]) -> DeedPage:
    """What was done, the newest first, a page at a time. What went on with one revision is one line."""
    later = Deed.objects.filter(
        kind=OuterRef("kind"), object_id=OuterRef("object_id"), revision=OuterRef("revision"), pk__gt=OuterRef("pk")
    )
    deeds = _chosen(only).exclude(Exists(later))
    if only.before is not None:
        deeds = deeds.filter(pk__lt=only.before)
    found = list(deeds[: PAGE + 1])
    return DeedPage(deeds=[_line(deed) for deed in found[:PAGE]], more=len(found) > PAGE)


@router.get("/deed-choices", response=DeedChoices)
def get_choices(request: HttpRequest) -> DeedChoices:
    """Who ever did something, and to what kinds of objects."""
    return DeedChoices(
        people=list(Deed.objects.order_by("who").values_list("who", flat=True).distinct()[:MOST_PEOPLE]),
        kinds=list(Deed.objects.order_by("kind").values_list("kind", flat=True).distinct()),
    )


@router.get("/deeds.csv")
def download_deeds(request: HttpRequest, only: Query[DeedFilter]) -> StreamingHttpResponse:
    """Everything that was done, the oldest first, as CSV."""
    actor = actor_of(request)
    tell(actor, "exported", "history", None, "who did what")
    headers = {"Content-Disposition": 'attachment; filename="who-did-what.csv"'}
    return StreamingHttpResponse(_as_csv(_chosen(only).order_by("pk")), content_type="text/csv", headers=headers)


def _chosen(only: DeedFilter) -> QuerySet[Deed]:
    named = {
        "who": only.who,
        "kind": only.kind,
        "object_id": only.object,
        "at__gte": only.since,
        "at__lt": only.until,
    }
    deeds = Deed.objects.filter(**{name: value for name, value in named.items() if value not in ("", None)})
    if only.text:
        deeds = deeds.filter(object_name__icontains=only.text) | deeds.filter(did__icontains=only.text)
    return deeds


def _line(deed: Deed) -> DeedLine:
    parts = ("id", "at", "who", "role", "address", "did", "kind", "object_id", "object_name", "note")
    changes = [ChangeLine(**change) for change in deed.changes]
    return DeedLine(**{part: getattr(deed, part) for part in parts}, changes=changes)


def _as_csv(deeds: QuerySet[Deed]) -> Iterator[str]:
    columns = ("id", "at", "who", "role", "address", "did", "kind", "object_id", "object_name", "note", "changes")
    yield _csv_line(columns)
    for deed in deeds.iterator(PIECE):
        told = (getattr(deed, column) for column in columns[1:-1])
        changes = json.dumps(deed.changes, ensure_ascii=False) if deed.changes else ""
        yield _csv_line((deed.pk, *(v.isoformat() if isinstance(v, datetime) else v for v in told), changes))


def _csv_line(values: tuple[Any, ...]) -> str:
    line = io.StringIO()
    csv.writer(line).writerow(["" if value is None else harmless(value) for value in values])
    return line.getvalue()
