"""What a plan's text only names: the system, journeys and feeds that are described elsewhere.

A name can be changed where it stands: everything around it, comments and layout, stays as it was written.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any, Literal

import yaml

from stonekettle.plan import clean
from stonekettle.plan.problems import PlanError

Kind = Literal["system", "journey", "feed"]
BYTE_ORDER_MARK = "\ufeff"
Name = tuple[Kind, str]
_PLAIN = re.compile(r"[^\W\d_][\w]*(?:[ -]\w+)*")
"""Names that YAML takes for text without quotes, wherever they stand."""


@dataclass(frozen=True)
class Mention:
    """A name in a text, from ``start`` to before ``end``; ``bare`` without quotes."""

    kind: Kind
    name: str
    start: int
    end: int
    bare: bool

    @property
    def key(self) -> Name:
        return self.kind, self.name


def mentions(text: str) -> tuple[Mention, ...]:
    """Every name that stands for something described elsewhere, in order. In a text that cannot be read are none."""
    try:
        root = clean.nodes(text)
    except (yaml.YAMLError, PlanError):
        return ()
    mark = len(BYTE_ORDER_MARK) if text.startswith(BYTE_ORDER_MARK) else 0  # the reader does not count it
    found = {(m.start + mark, m.end + mark): m for m in _mentions(root)}
    return tuple(replace(found[start, end], start=start, end=end) for start, end in sorted(found))


def renamed(text: str, names: Mapping[Name, str]) -> str:
    """The text with other names for what it mentions; those that ``names`` does not hold stay."""
    if not names:
        return text
    for mention in reversed(mentions(text)):
        if mention.key in names:
            text = text[: mention.start] + _written(names[mention.key], mention.bare) + text[mention.end :]
    return text


def named(text: str, name: str) -> str:
    """The text of a document that has a name of its own, with another one."""
    mark = len(BYTE_ORDER_MARK) if text.startswith(BYTE_ORDER_MARK) else 0
    node = dict(_fields(clean.nodes(text))).get("name")
    if not isinstance(node, yaml.ScalarNode):
        return text
    start, end = node.start_mark.index + mark, node.end_mark.index + mark
    return text[:start] + _written(name, not node.style) + text[end:]


def renamed_parts(document: Mapping[str, Any], names: Mapping[Name, str]) -> dict[str, Any]:
    """A whole plan's plain data, in which everything is written out, with other names for these parts."""

    def called(kind: Kind, part: Mapping[str, Any]) -> dict[str, Any]:
        return {**part, "name": names.get((kind, part["name"]), part["name"])}

    found = {**document, "system": called("system", document["system"])}
    found["journeys"] = [called("journey", journey) for journey in document["journeys"]]
    if "feeds" in document:
        found["feeds"] = [called("feed", feed) for feed in document["feeds"]]
    if "groups" in document:
        found["groups"] = [_mixed(group, names) for group in document["groups"]]
    return found


def _mixed(group: Mapping[str, Any], names: Mapping[Name, str]) -> dict[str, Any]:
    mix = {names.get(("journey", name), name): part for name, part in group.get("mix", {}).items()}
    return {**group, **({"mix": mix} if mix else {})}


def _written(name: str, bare: bool) -> str:
    plain = bare and _PLAIN.fullmatch(name) and yaml.safe_load(name) == name
    return name if plain else json.dumps(name, ensure_ascii=False)


def _mentions(root: yaml.Node | None) -> Iterable[Mention]:
    fields = dict(_fields(root))
    if (system := fields.get("system")) is not None:
        yield from _mention("system", system)
    journeys = set[str]()
    for kind in ("journey", "feed"):
        for item in _items(fields.get(f"{kind}s")):
            for mention in (m for name, node in _fields(item) if name == kind for m in _mention(kind, node)):
                yield mention
                if kind == "journey":
                    journeys.add(mention.name)
    # The mix of a group names journeys too; those written out in the plan are not described elsewhere.
    for group in _items(fields.get("groups")):
        mix = next((node for name, node in _fields(group) if name == "mix"), None)
        if isinstance(mix, yaml.MappingNode):
            for key, _ in mix.value:
                yield from (m for m in _mention("journey", key) if m.name in journeys)


def _mention(kind: Kind, node: yaml.Node) -> Iterable[Mention]:
    if isinstance(node, yaml.ScalarNode) and node.style in (None, "", "'", '"'):
        yield Mention(kind, str(node.value), node.start_mark.index, node.end_mark.index, not node.style)


def _fields(node: yaml.Node | None) -> Iterable[tuple[str, yaml.Node]]:
    if isinstance(node, yaml.MappingNode):
        yield from ((str(key.value), value) for key, value in node.value)


def _items(node: yaml.Node | None) -> Iterable[yaml.Node]:
    return node.value if isinstance(node, yaml.SequenceNode) else ()
