"""A target: a host that load may go to, how much of it, and when. Its terms as people write them."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable
from datetime import datetime, time, timedelta
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

import idna
from pydantic import AfterValidator, Field
from pydantic_core import PydanticCustomError

from stonekettle.plan.parts import Part

MOST_PORTS = 50
MOST_PROVEN_PORTS = 8
WIDEST_V4, WIDEST_V6 = 16, 48
"""A range holds no more than what is left of so many leading bits."""
DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
Day = Literal["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"]
_NUMERIC = re.compile(r"[0-9.]+|0x[0-9a-fx.]*")
_NAME = re.compile(r"(?=.{1,253}$)[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)*")
_TIME = re.compile(r"([01][0-9]|2[0-3]):[0-5][0-9]")


def host_form(value: str) -> str:
    """A DNS name, a numeric address or a range of them, in the one form it is compared in."""
    text = value.strip().rstrip(".").removeprefix("[").removesuffix("]")
    mend = "Write a name (shop.example.com), an address (10.1.2.3, 2001:db8::5) or a range (10.1.2.0/24)."
    if "/" in text:
        try:
            network = ipaddress.ip_network(text)
        except ValueError:
            raise _error("range", f"{value!r} is not a range of addresses.", mend) from None
        widest = WIDEST_V4 if network.version == 4 else WIDEST_V6
        if network.prefixlen < widest:
            raise _error("range", f"{value!r} is too wide a range.", f"Enter ranges of /{widest} or narrower.")
        return str(network)
    try:
        return str(ipaddress.ip_address(text))
    except ValueError:
        pass
    try:
        name = idna.encode(text.lower(), uts46=True).decode() if not text.isascii() else text.lower()
    except idna.IDNAError:
        name = ""
    if not _NAME.fullmatch(name) or _NUMERIC.fullmatch(name):
        raise _error("host", f"{value!r} is not a host.", mend)
    return name


def ports_form(value: str) -> str:
    """Ports and ranges of them with commas between; empty: all."""
    return ", ".join(str(low) if low == high else f"{low}-{high}" for low, high in ranges(value))


def ranges(text: str) -> tuple[tuple[int, int], ...]:
    """The ranges that such a text gives, ends included."""
    found = []
    for part in filter(None, (part.strip() for part in text.split(","))):
        low, dash, high = part.partition("-")
        high = high if dash else low
        if not (_is_port(low) and _is_port(high) and int(low) <= int(high)):
            raise _error("ports", f"{part!r} is neither a port nor a range of ports.", "Write '443' or '8000-8100'.")
        found.append((int(low), int(high)))
    if len(found) > MOST_PORTS:
        raise _error("ports", f"there are {len(found)} of them.", f"Write at most {MOST_PORTS}; use ranges.")
    return tuple(found)


def _is_port(text: str) -> bool:
    return text.strip().isascii() and text.strip().isdecimal() and 1 <= int(text) <= 65_535 and len(text) < 8


def _clock_time(value: str) -> str:
    if not _TIME.fullmatch(value):
        raise _error("time", f"{value!r} is not a time of day.", "Write it as 07:30.")
    return value


def _zone(value: str) -> str:
    try:
        ZoneInfo(value)
    except (KeyError, ValueError, OSError):
        raise _error("zone", f"{value!r} is not a time zone.", "Write it as Europe/Berlin, or UTC.") from None
    return value


def _error(kind: str, message: str, mend: str) -> PydanticCustomError:
    return PydanticCustomError("target_" + kind, "{text}", {"text": message, "mend": mend})


class ClosedHours(Part):
    """Hours in which no load may go there: from ``start`` to ``end`` on these days; an end that is not after the start
    is one of the next day."""

    days: tuple[Day, ...] = Field(min_length=1, max_length=7)
    start: Annotated[str, AfterValidator(_clock_time)]
    end: Annotated[str, AfterValidator(_clock_time)]


class TargetTerms(Part):
    """``host`` at ``ports`` ("": all) by ``scheme`` ("": either) bears at most so many users, requests per second and
    connections at a time, of everybody together; not in ``closed`` hours, told in ``time_zone``. ``contact`` is whom to
    tell before a run."""

    host: Annotated[str, Field(min_length=1, max_length=260), AfterValidator(host_form)]
    ports: Annotated[str, Field(max_length=400), AfterValidator(ports_form)] = ""
    scheme: Literal["", "http", "https"] = ""
    contact: str = Field(min_length=1, max_length=200)
    reason: str = Field(default="", max_length=500)
    users: int | None = Field(default=None, ge=1, le=1_000_000)
    requests: int | None = Field(default=None, ge=1, le=1_000_000)
    connections: int | None = Field(default=None, ge=1, le=1_000_000)
    closed: tuple[ClosedHours, ...] = Field(default=(), max_length=20)
    time_zone: Annotated[str, Field(max_length=60), AfterValidator(_zone)] = "UTC"

    @property
    def is_name(self) -> bool:
        """Whether the host is a name, not numbers."""
        try:
            ipaddress.ip_network(self.host)
        except ValueError:
            return True
        return False

    @property
    def is_range(self) -> bool:
        return "/" in self.host

    @property
    def port_ranges(self) -> tuple[tuple[int, int], ...]:
        return ranges(self.ports) or ((1, 65_535),)

    @property
    def ceilings(self) -> str:
        """What it bears, in words."""
        parts = ((self.users, "users"), (self.requests, "requests per second"), (self.connections, "connections"))
        return ", ".join(f"{most} {what}" for most, what in parts if most is not None)

    def closed_until(self, now: datetime) -> datetime | None:
        """When the closed hours that ``now`` is in are over; None where it is in none."""
        ends = [end for start, end in self._hours(now) if start <= now < end]
        return max(ends, default=None)

    def closes_at(self, now: datetime) -> datetime | None:
        """When the next closed hours begin after ``now``, within a week."""
        return min((start for start, _ in self._hours(now) if start > now), default=None)

    def _hours(self, now: datetime) -> Iterable[tuple[datetime, datetime]]:
        """The closed hours about now, as moments."""
        zone = ZoneInfo(self.time_zone)
        today = now.astimezone(zone).date()
        for hours in self.closed:
            start, end = time.fromisoformat(hours.start), time.fromisoformat(hours.end)
            for offset in range(-1, 9):
                day = today + timedelta(days=offset)
                if DAYS[day.weekday()] in hours.days:
                    last = day if end > start else day + timedelta(days=1)
                    yield datetime.combine(day, start, zone), datetime.combine(last, end, zone)
