"""Connections of the preview server that wait no longer than they must."""

from __future__ import annotations

from collections import OrderedDict
from typing import TYPE_CHECKING, ClassVar

from uvicorn.protocols.http.h11_impl import H11Protocol

if TYPE_CHECKING:
    import asyncio

__all__ = ["Impatient"]

_SECONDS_OF_HEAD = 5  # in which the head of a request must come
_MOST_WAITING = 64  # connections that have sent no whole request


class Impatient(H11Protocol):
    """A connection that does not wait for a request whose head never ends.

    One that has sent no whole head after some seconds is closed; of many that wait at once the oldest is,
    so that those who say nothing keep nobody else out.
    """

    waiting: ClassVar[OrderedDict[int, Impatient]] = OrderedDict()
    alarm: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to wait for the first request."""
        super().connection_made(transport)
        self.wait()

    def data_received(self, data: bytes) -> None:
        """Take what came; a whole head ends the waiting, a part of one begins it."""
        super().data_received(data)
        if self.cycle is not None and not self.cycle.response_complete:
            self.stop()
        elif self.alarm is None:
            self.wait()

    def connection_lost(self, exc: Exception | None) -> None:
        """Wait no longer."""
        self.stop()
        super().connection_lost(exc)

    def wait(self) -> None:
        """Give the other side some seconds; send the one away that has waited longest, of too many."""
        self.alarm = self.loop.call_later(_SECONDS_OF_HEAD, self.give_up)
        self.waiting[id(self)] = self
        if len(self.waiting) > _MOST_WAITING:
            next(iter(self.waiting.values())).give_up()

    def stop(self) -> None:
        """Wait no longer."""
        self.waiting.pop(id(self), None)
        if self.alarm is not None:
            self.alarm.cancel()
            self.alarm = None

    def give_up(self) -> None:
        """Close the connection."""
        self.stop()
        self.transport.close()
