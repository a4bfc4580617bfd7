"""OTLP traces as protobuf and JSON, written and read."""

from __future__ import annotations

import gzip
import json

import pytest

from stonekettle.meters import otlp_traces
from stonekettle.meters.otlp import OtlpError
from stonekettle.meters.otlp_traces import PushedSpan, as_json, from_row, read, request_of

T0 = 1_790_000_000_000_000_000
TRACE = "0000000c00000003000000020000001a"
GATEWAY = PushedSpan(
    "00000003001a0000", "00000003001a0001", "gateway", "gateway-1", "GET /lines", "server", T0, T0 + 90, False
)
LEDGER = PushedSpan("aa" * 8, GATEWAY.id, "ledger", "ledger-2", "Grüße 🚋", "internal", T0 + 10, T0 + 60, True)
PROTOBUF = "application/x-protobuf"


def test_protobuf_and_json_tell_the_same() -> None:
    request = request_of([(TRACE, GATEWAY), (TRACE, LEDGER), ("ab" * 16, GATEWAY)])
    expected = {TRACE: [GATEWAY, LEDGER], "ab" * 16: [GATEWAY]}
    binary = request.SerializeToString()
    for body, kind, encoding in (
        (binary, PROTOBUF, ""),
        (gzip.compress(binary), PROTOBUF, "gzip"),
        (as_json(request).encode(), "application/json; charset=utf-8", "identity"),
    ):
        found = read(body, kind, encoding)
        assert {trace: sorted(spans, key=lambda one: one.start_ns) for trace, spans in found.items()} == expected
    assert from_row(json.loads(json.dumps(LEDGER.row))) == LEDGER


def test_json_as_others_write_it_is_read() -> None:
    """Ids in capitals, numbers as text, kinds as numbers, links and attributes that nothing is made of."""
    span = {
        "traceId": TRACE.upper(),
        "spanId": "EEE19B7EC3C1B174",
        "parentSpanId": "",
        "name": "a\0b" + "x" * 300,
        "kind": 3,
        "startTimeUnixNano": str(T0),
        "endTimeUnixNano": str(T0 + 5),
        "links": [{"traceId": "no digits", "spanId": "none"}],
        "attributes": [{"key": "http.request.method", "value": {"stringValue": "GET"}}],
        "status": {"code": 2},
        "unheardOf": {"a": [1]},
    }
    body = {"resourceSpans": [{"scopeSpans": [{"scope": {"name": "x"}, "spans": [span, {**span, "spanId": ""}]}]}]}
    ((trace, (found,)),) = read(json.dumps(body).encode(), "application/json", "").items()
    assert trace == TRACE
    assert (found.id, found.parent, found.kind, found.failed) == ("eee19b7ec3c1b174", "", "client", True)
    assert (found.service, found.instance) == ("unknown_service", "pushed")
    assert found.name.startswith("abx")
    assert len(found.name) == otlp_traces.MOST_OF_TEXT


def test_what_has_no_id_or_ends_before_it_begins_is_left_out() -> None:
    backwards = PushedSpan("bb" * 8, "", "ledger", "", "", "server", T0, T0 - 1, False)
    nameless = PushedSpan("", "", "ledger", "", "", "server", T0, T0 + 1, False)
    body = request_of([(TRACE, backwards), (TRACE, nameless), ("abcd", GATEWAY)]).SerializeToString()
    assert read(body, PROTOBUF, "") == {}


@pytest.mark.parametrize(
    ("body", "kind", "part"),
    [
        (b"{", "application/json", "no OTLP traces request"),
        (b"[]", "application/json", "its JSON is no object"),
        (b'{"resourceSpans":' + b"[" * 100_000, "application/json", "no OTLP traces request"),
        (b'{"resourceSpans": 5}', "application/json", "no OTLP traces request"),
        (b'{"resourceSpans": [{"scopeSpans": [{"spans": [{"traceId": "xyz"}]}]}]}', "application/json", "hexadecimal"),
        (b"\xff\xff", PROTOBUF, "no OTLP traces request"),
        (b"", "text/plain", "neither"),
    ],
)
def test_what_is_no_request_is_refused(body: bytes, kind: str, part: str) -> None:
    with pytest.raises(OtlpError, match=part):
        read(body, kind, "")
