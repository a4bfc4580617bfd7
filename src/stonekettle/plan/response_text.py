"""What stands in the text of an answer: fields of forms, values in JSON."""

from __future__ import annotations

import base64
import codecs
import html
import json
import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any
from urllib.parse import unquote

from stonekettle.plan import patterns

_INPUT = patterns.compiled(r"(?i)<(?:input|button)\b[^>]*>")
_ATTRIBUTE = patterns.compiled(r"""([\w:-]+)\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+))""")
_TEXTAREA = patterns.compiled(r"(?is)<textarea\b([^>]*)>(.*?)</textarea>")
_CHARSET = re.compile(r"charset\s*=\s*[\"']?([\w.:-]{1,40})", re.IGNORECASE)
_NO_CHARSETS = ("idna", "punycode", "undefined", "unicode_escape", "raw_unicode_escape", "unicode-escape")
"""What Python calls encodings and no page is written in; some take time with the square of the text."""


def decoded(body: bytes, content_type: str) -> str:
    """The text of a body in the encoding its content type names; UTF-8 where that is none."""
    match = _CHARSET.search(content_type)
    try:
        name = codecs.lookup(match[1]).name if match else "utf-8"
        return body.decode("utf-8" if name in _NO_CHARSETS else name, "replace")
    except (LookupError, ValueError):
        return body.decode("utf-8", "replace")


def _from_base64(text: str) -> str:
    return base64.b64decode(text + "=" * (-len(text) % 4), altchars=b"-_" if set("-_") & set(text) else None).decode()


def _from_json(text: str) -> str:
    return str(json.loads(f'"{text}"'))


unwritten: dict[str, Callable[[str], str]] = {
    "base64": _from_base64,
    "url": unquote,
    "html": html.unescape,
    "json": _from_json,
}
"""From a writing back to the value. Each may raise ValueError."""


def form_fields(page: str) -> list[tuple[str, str]]:
    """Names and values of the fields of a page's forms."""
    found = []
    for tag in _INPUT.findall(page):
        attributes = _attributes(tag)
        if "name" in attributes:
            found.append((attributes["name"], attributes.get("value", "")))
    for head, text in _TEXTAREA.findall(page):
        if name := _attributes(head).get("name"):
            found.append((name, html.unescape(text)))
    return found


def _attributes(tag: str) -> dict[str, str]:
    return {
        name.lower(): html.unescape(double or single or bare) for name, double, single, bare in _ATTRIBUTE.findall(tag)
    }


def json_leaves(document: Any, path: str = "$") -> Iterator[tuple[str, Any]]:
    """Every text and number in a document with its JSON path."""
    if isinstance(document, dict):
        for key, value in document.items():
            plain = re.fullmatch(r"[A-Za-z_][\w-]*", str(key))
            yield from json_leaves(value, f"{path}.{key}" if plain else f"{path}['{key}']")
    elif isinstance(document, list):
        for number, value in enumerate(document):
            yield from json_leaves(value, f"{path}[{number}]")
    elif isinstance(document, (str, int, float)) and not isinstance(document, bool):
        yield path, document


def set_cookies(lines: Iterable[str]) -> list[tuple[str, str]]:
    """Names and values of cookies from ``Set-Cookie`` values."""
    pairs = (line.partition(";")[0].partition("=") for line in lines)
    return [(name.strip(), value.strip()) for name, _, value in pairs]
