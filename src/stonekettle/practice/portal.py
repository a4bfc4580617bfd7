"""Quillport's riders' portal: pages as a browser meets them, with a log-in, hidden form fields, a
session cookie and a ticket number that later requests need. Each costs what its API route costs."""

from __future__ import annotations

import html
import secrets
from collections import OrderedDict
from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING

from aiohttp import web

if TYPE_CHECKING:
    from stonekettle.practice.server import LiveSystem

PASSWORD = "mind-the-step"
"""Every rider's password: this is a practice system."""
COOKIE = "tram_session"
MAX_KEPT = 200_000
_NEEDED = ("GET /", "GET /tickets/new", "POST /tickets", "POST /tickets/activate")
_FILES = {
    "tram.css": (
        "text/css",
        "body{font-family:sans-serif;margin:2rem}form{display:grid;gap:.5rem;max-width:20rem}\n" * 20,
    ),
    "quay.svg": (
        "image/svg+xml",
        '<svg xmlns="http://www.w3.org/2000/svg" width="40" height="20"><path d="M0 10h40"/></svg>',
    ),
}
Handler = Callable[[web.Request], Awaitable[web.StreamResponse]]


class _Kept(OrderedDict[str, str]):
    """The last so many entries."""

    def keep(self, key: str, value: str) -> None:
        self[key] = value
        if len(self) > MAX_KEPT:
            self.popitem(last=False)


class Portal:
    """Pages under /portal, files under /static."""

    def __init__(self, system: LiveSystem) -> None:
        self._system = system
        self._routes = {route.name: route for route in system.config.routes}
        self._sessions, self._tokens, self._tickets = _Kept(), _Kept(), _Kept()
        self._numbers = 0
        self.activated = 0

    @property
    def is_possible(self) -> bool:
        """Whether the configuration has the routes the pages stand for."""
        return all(name in self._routes for name in _NEEDED)

    def add_to(self, app: web.Application) -> None:
        add = app.router.add_route
        add("GET", "/portal/login", self._counted("GET /", self._login_page))
        add("POST", "/portal/login", self._counted("GET /", self._log_in))
        add("GET", "/portal", self._counted("GET /", self._home))
        add("GET", "/portal/tickets/new", self._counted("GET /tickets/new", self._ticket_page))
        add("POST", "/portal/tickets", self._counted("POST /tickets", self._buy))
        add("GET", "/portal/tickets/{number}", self._counted("GET /tickets/new", self._ticket))
        add("POST", "/portal/tickets/{number}/activate", self._counted("POST /tickets/activate", self._activate))
        add("GET", "/portal/activated", self._tell_activated)
        add("GET", "/static/{name}", self._file)

    def _counted(self, route: str, handler: Handler) -> Handler:
        async def answer(request: web.Request) -> web.StreamResponse:
            spent = await self._system.answer(self._routes[route], request)
            self._system.answered[f"{request.method} {request.path.partition('/T-')[0]}"] += 1
            response = await handler(request)
            timing = ", ".join(f"{name};dur={seconds * 1000:.2f}" for name, seconds in spent.items())
            response.headers["Server-Timing"] = timing
            return response

        return answer

    def _rider(self, request: web.Request) -> str:
        """The signed-in rider. Raises a redirect to the log-in."""
        rider = self._sessions.get(request.cookies.get(COOKIE, ""))
        if rider is None:
            raise web.HTTPSeeOther("/portal/login")
        return rider

    def _token(self, purpose: str) -> str:
        token = secrets.token_urlsafe(12)
        self._tokens.keep(token, purpose)
        return token

    async def _login_page(self, request: web.Request) -> web.Response:
        return _page(
            "Sign in",
            f'<form method="post" action="/portal/login"><input type="hidden" name="form_token" '
            f'value="{self._token("login")}"><label>Rider <input name="rider"></label><label>Password '
            '<input type="password" name="password"></label><button>Sign in</button></form>',
        )

    async def _log_in(self, request: web.Request) -> web.Response:
        form = await request.post()
        if self._tokens.pop(str(form.get("form_token")), None) != "login":
            return _page("Too old", "<p>This form was used before. Load it again.</p>", status=403)
        if form.get("password") != PASSWORD or not form.get("rider"):
            return _page("Sign in", "<p>The rider number or the password is wrong.</p>")
        session = secrets.token_urlsafe(16)
        self._sessions.keep(session, str(form["rider"]))
        response = _see_other("/portal")
        response.set_cookie(COOKIE, session, path="/", httponly=True)
        return response

    async def _home(self, request: web.Request) -> web.Response:
        rider = html.escape(self._rider(request))
        return _page("Your trams", f'<p>Welcome, rider {rider}.</p><a href="/portal/tickets/new">Buy a ticket</a>')

    async def _ticket_page(self, request: web.Request) -> web.Response:
        rider = self._rider(request)
        return _page(
            "Day ticket",
            f'<form method="post" action="/portal/tickets"><input type="hidden" name="purchase_token" '
            f'value="{self._token(rider)}"><label>Zone <select name="zone"><option>A<option>B<option>C</select>'
            "</label><button>Buy</button></form>",
        )

    async def _buy(self, request: web.Request) -> web.Response:
        rider, form = self._rider(request), await request.post()
        if self._tokens.pop(str(form.get("purchase_token")), None) != rider:
            return _page("Too old", "<p>This form was used before. Load it again.</p>", status=403)
        self._numbers += 1
        number = f"T-{self._numbers:06d}"
        self._tickets.keep(number, rider)
        return _see_other(f"/portal/tickets/{number}")

    async def _ticket(self, request: web.Request) -> web.Response:
        number = self._owned(request)
        return _page(
            f"Ticket {number}",
            f'<p>Ticket <b id="number">{number}</b> is not active yet.</p><form method="post" '
            f'action="/portal/tickets/{number}/activate"><button>Activate</button></form>',
        )

    async def _activate(self, request: web.Request) -> web.Response:
        number = self._owned(request)
        del self._tickets[number]
        self.activated += 1
        self._system.components["ledger"].activated = self.activated
        return _page(f"Ticket {number}", f"<p>Ticket {number} is active.</p>")

    async def _tell_activated(self, request: web.Request) -> web.Response:
        """How many tickets were activated: work done, as the server sees it."""
        return web.json_response({"activated": self.activated})

    def _owned(self, request: web.Request) -> str:
        number = request.match_info["number"]
        if self._tickets.get(number) != self._rider(request):
            raise web.HTTPNotFound(text="There is no such ticket, or it is active already.")
        return number

    async def _file(self, request: web.Request) -> web.Response:
        found = _FILES.get(request.match_info["name"])
        if found is None:
            raise web.HTTPNotFound()
        return web.Response(text=found[1], content_type=found[0], headers={"Cache-Control": "max-age=3600"})


def _see_other(where: str) -> web.Response:
    return web.Response(status=303, headers={"Location": where})


def _page(title: str, body: str, status: int = 200) -> web.Response:
    text = (
        f'<!doctype html><html lang="en"><title>{title}</title><link rel="stylesheet" href="/static/tram.css">'
        f'<img src="/static/quay.svg" alt=""><h1>{title}</h1>{body}</html>'
    )
    return web.Response(text=text, content_type="text/html", status=status)
