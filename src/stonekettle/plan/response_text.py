"""What stands in the text of an answer: fields of forms, values in JSON."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from typing import Any

_INPUT = re.compile(r"<(?:input|button)\b[^>]*>", re.IGNORECASE)
_ATTRIBUTE = re.compile(r"""([\w:-]+)\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+))""")
_TEXTAREA = re.compile(r"<textarea\b([^>]*)>(.*?)</textarea>", re.IGNORECASE | re.DOTALL)


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
