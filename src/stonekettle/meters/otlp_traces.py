"""Traces pushed to us: OTLP over HTTP, as protobuf or JSON (OpenTelemetry protocol 1.x)."""

from __future__ import annotations

import base64
import json
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, fields
from typing import Any

from google.protobuf import json_format
from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest
from opentelemetry.proto.trace.v1.trace_pb2 import ResourceSpans, Status
from opentelemetry.proto.trace.v1.trace_pb2 import Span as ToldSpan

from stonekettle.meters.otlp import labels_of, parsed, sender

MOST_OF_TEXT = 200
_IDS = ("traceId", "spanId", "parentSpanId", "trace_id", "span_id", "parent_span_id")
_KINDS = {
    ToldSpan.SPAN_KIND_SERVER: "server",
    ToldSpan.SPAN_KIND_CLIENT: "client",
    ToldSpan.SPAN_KIND_PRODUCER: "producer",
    ToldSpan.SPAN_KIND_CONSUMER: "consumer",
}


@dataclass(frozen=True)
class PushedSpan:
    """A stay of a request in a service; ids are hexadecimal digits, times in ns since the epoch by the sender's clock.
    ``kind`` is one of server, client, producer, consumer and internal."""

    id: str
    parent: str
    service: str
    instance: str
    name: str
    kind: str
    start_ns: int
    end_ns: int
    failed: bool

    @property
    def row(self) -> list[Any]:
        """As plain data, read back by :func:`from_row`."""
        return [getattr(self, field.name) for field in fields(self)]


def from_row(row: list[Any]) -> PushedSpan:
    return PushedSpan(*row)


def read(body: bytes, content_type: str, encoding: str) -> dict[str, list[PushedSpan]]:
    """Spans by the id of their trace (32 hexadecimal digits). What has no id, or ends before it begins, is left out.
    Raises :class:`otlp.OtlpError`."""
    request = parsed(ExportTraceServiceRequest(), body, content_type, encoding, "traces", _ids_as_bytes)
    found: dict[str, list[PushedSpan]] = defaultdict(list)
    for resource in request.resource_spans:
        service, instance = map(_text, sender(labels_of(resource.resource.attributes)))
        for span in (span for scope in resource.scope_spans for span in scope.spans):
            named = len(span.trace_id) == 16 and len(span.span_id) == 8
            if named and 0 < span.start_time_unix_nano <= span.end_time_unix_nano:
                found[span.trace_id.hex()].append(_pushed(span, service, instance))
    return dict(found)


def request_of(spans: Iterable[tuple[str, PushedSpan]]) -> ExportTraceServiceRequest:
    """Spans with the ids of their traces as the protocol has them."""
    request = ExportTraceServiceRequest()
    services: dict[tuple[str, str], ResourceSpans] = {}
    for trace, span in spans:
        if (by := (span.service, span.instance)) not in services:
            own = services[by] = request.resource_spans.add()
            for key, value in (("service.name", span.service), ("service.instance.id", span.instance)):
                own.resource.attributes.add(key=key).value.string_value = value
            own.scope_spans.add()
        services[by].scope_spans[0].spans.append(_told(trace, span))
    return request


def as_json(request: ExportTraceServiceRequest) -> str:
    """A request in OTLP's JSON, on one line."""
    told = json_format.MessageToDict(request)
    for span in _spans_in(told):
        for name in _IDS:
            if name in span:
                span[name] = base64.b64decode(span[name]).hex()
    return json.dumps(told, ensure_ascii=False, separators=(",", ":"))


def _told(trace: str, span: PushedSpan) -> ToldSpan:
    kinds = {kind: number for number, kind in _KINDS.items()}
    return ToldSpan(
        trace_id=bytes.fromhex(trace),
        span_id=bytes.fromhex(span.id),
        parent_span_id=bytes.fromhex(span.parent),
        name=span.name,
        kind=kinds.get(span.kind, ToldSpan.SPAN_KIND_INTERNAL),
        start_time_unix_nano=span.start_ns,
        end_time_unix_nano=span.end_ns,
        status=Status(code=Status.STATUS_CODE_ERROR if span.failed else Status.STATUS_CODE_UNSET),
    )


def _pushed(span: ToldSpan, service: str, instance: str) -> PushedSpan:
    return PushedSpan(
        id=span.span_id.hex(),
        parent=span.parent_span_id.hex(),
        service=service,
        instance=instance,
        name=_text(span.name),
        kind=_KINDS.get(span.kind, "internal"),
        start_ns=span.start_time_unix_nano,
        end_ns=span.end_time_unix_nano,
        failed=span.status.code == Status.STATUS_CODE_ERROR,
    )


def _text(text: str) -> str:
    """As much of it as is kept; the database cannot hold the character 0."""
    return text.replace("\0", "")[:MOST_OF_TEXT]


def _ids_as_bytes(told: dict[str, Any]) -> None:
    """In the protocol's JSON ids are hexadecimal digits, where protobuf's has base64. Raises :class:`ValueError`."""
    for span in _spans_in(told):
        for name in _IDS:
            if isinstance(span.get(name), str):
                span[name] = base64.b64encode(bytes.fromhex(span[name])).decode()


def _spans_in(told: Mapping[str, Any]) -> Iterator[dict[str, Any]]:
    for resource in _objects(told, "resourceSpans", "resource_spans"):
        for scope in _objects(resource, "scopeSpans", "scope_spans"):
            for span in _objects(scope, "spans"):
                # Links name other traces; nothing is made of them.
                span.pop("links", None)
                yield span


def _objects(told: Mapping[str, Any], *names: str) -> Iterator[dict[str, Any]]:
    for name in names:
        values = told.get(name)
        yield from (value for value in (values if isinstance(values, list) else ()) if isinstance(value, dict))
