"""What a person saw and pressed in a recording: the names of links, buttons and pages."""

from __future__ import annotations

import html
from collections.abc import Iterator
from urllib.parse import urljoin

from stonekettle.plan import patterns

LONGEST = 70
_TITLE = patterns.compiled(r"(?is)<title[^>]*>([^<]*)</title>")
_LINK = patterns.compiled(r"(?is)<a\b([^>]*)>(.*?)</a>")
_FORM = patterns.compiled(r"(?is)<form\b([^>]*)>(.*?)</form>")
_BUTTON = patterns.compiled(r"(?is)<button\b[^>]*>(.*?)</button>")
_SUBMIT = patterns.compiled(r"""(?is)<input\b[^>]*\btype=["']?(?:submit|image)\b[^>]*>""")
_TAG = patterns.compiled(r"(?s)<[^>]*>")


def title_of(page: str) -> str:
    """The title of a page as people read it; empty without one."""
    match = _TITLE.search(page)
    return _words(match[1]) if match else ""


def pressed(page: str, at: str, method: str, url: str) -> str:
    """What of the page at address ``at`` leads to a request: the text of the link, or of the form's button."""
    if method == "GET":
        for head, text in _LINK.findall(page):
            if _leads(at, _attribute(head, "href"), url) and (words := _words(text)):
                return words
    for head, inner in _FORM.findall(page):
        action = _attribute(head, "action") or at
        wanted = (_attribute(head, "method") or "GET").upper()
        if wanted == method and _leads(at, action, url.partition("?")[0] if method == "GET" else url):
            return next((words for words in _buttons(inner) if words), "")
    return ""


def _buttons(form: str) -> Iterator[str]:
    for text in _BUTTON.findall(form):
        yield _words(text)
    for tag in _SUBMIT.findall(form):
        yield _words(_attribute(tag, "value"))


def _attribute(tag: str, name: str) -> str:
    found = patterns.compiled(rf"""(?i)\b{name}\s*=\s*(?:"([^"]*)"|'([^']*)'|([^\s"'>]+))""").search(tag)
    return html.unescape(next((text for text in found.groups() if text), "")) if found else ""


def _leads(at: str, where: str, url: str) -> bool:
    return bool(where) and urljoin(at, where).partition("#")[0] == url


def _words(text: str) -> str:
    return " ".join(html.unescape(_TAG.sub(lambda _: " ", text)).split())[:LONGEST]
