"""Drives libcurl's transfers: waits for sockets and lets libcurl act on them.

Two drivers, chosen by the number of users: ``perform`` with select is faster for some hundreds of
connections but ends at 1,024 descriptors; the socket interface with epoll has no such end.
"""

from __future__ import annotations

import select
import time
from typing import Protocol

import pycurl

from stonekettle.plan.segments import MAX_USERS

SELECT_USERS = 800
"""With more users than this, descriptors could pass the limit of select."""

_EVENTS = {
    pycurl.POLL_IN: select.EPOLLIN,
    pycurl.POLL_OUT: select.EPOLLOUT,
    pycurl.POLL_INOUT: select.EPOLLIN | select.EPOLLOUT,
}


class Driver(Protocol):
    """Moves transfers forward without ever waiting longer than told."""

    multi: pycurl.CurlMulti

    def pump(self) -> None:
        """Do what can be done now."""

    def wait(self, seconds: float) -> None:
        """Sleep until a transfer can move or ``seconds`` have passed. Only with one in flight."""

    def close(self) -> None: ...


class SelectDriver:
    """``perform`` over all transfers, select to wait."""

    def __init__(self) -> None:
        self.multi = pycurl.CurlMulti()

    def pump(self) -> None:
        perform = self.multi.perform
        while perform()[0] == pycurl.E_CALL_MULTI_PERFORM:
            pass

    def wait(self, seconds: float) -> None:
        self.multi.select(seconds)

    def close(self) -> None:
        self.multi.close()


class EpollDriver:
    """libcurl's socket interface: only sockets with events are looked at."""

    def __init__(self) -> None:
        self.multi = pycurl.CurlMulti()
        self._epoll = select.epoll()
        self._watched: dict[int, int] = {}
        self._due: float | None = None
        self.multi.setopt(pycurl.M_SOCKETFUNCTION, self._on_socket)
        self.multi.setopt(pycurl.M_TIMERFUNCTION, self._on_timer)

    def _on_socket(self, event: int, descriptor: int, multi: object, data: object) -> None:
        if event == pycurl.POLL_REMOVE:
            if self._watched.pop(descriptor, None) is not None:
                try:
                    self._epoll.unregister(descriptor)
                except OSError:
                    # libcurl closed it first, and closing removes it from epoll.
                    pass
            return
        mask = _EVENTS.get(event, 0)
        if descriptor in self._watched:
            if self._watched[descriptor] != mask:
                self._epoll.modify(descriptor, mask)
        else:
            self._epoll.register(descriptor, mask)
        self._watched[descriptor] = mask

    def _on_timer(self, milliseconds: int) -> None:
        self._due = None if milliseconds < 0 else time.perf_counter() + milliseconds / 1000

    def pump(self) -> None:
        act = self.multi.socket_action
        for descriptor, mask in self._epoll.poll(0, 1024):
            flags = 0
            if mask & (select.EPOLLIN | select.EPOLLHUP | select.EPOLLERR):
                flags |= pycurl.CSELECT_IN
            if mask & select.EPOLLOUT:
                flags |= pycurl.CSELECT_OUT
            act(descriptor, flags)
        if self._due is not None and self._due <= time.perf_counter():
            self._due = None
            act(pycurl.SOCKET_TIMEOUT, 0)

    def wait(self, seconds: float) -> None:
        if self._due is not None:
            seconds = min(seconds, self._due - time.perf_counter())
        if seconds > 0:
            # epoll itself waits in whole milliseconds; select on its descriptor does not.
            select.select([self._epoll.fileno()], [], [], seconds)

    def close(self) -> None:
        self.multi.close()
        self._epoll.close()


def room_for(users: int) -> int:
    """How many users a driver chosen for ``users`` can carry at most."""
    return SELECT_USERS if users <= SELECT_USERS else MAX_USERS


def driver_for(users: int) -> Driver:
    """The better driver for this many users."""
    return SelectDriver() if users <= SELECT_USERS else EpollDriver()
