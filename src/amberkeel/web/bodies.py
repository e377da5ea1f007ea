"""Bodies of requests, waited for before a thread is taken: one that never comes holds no thread."""

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

Message = dict[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

IDLE_S = 20.0
"""Seconds in which the next piece of a body must come."""

GATHERED = 1 << 20
"""Bytes of a body that are waited for ahead; of a larger one the rest comes while it is read."""

LARGE_AT_ONCE = 8
"""Larger bodies that one process reads at a time; the next ones wait, and hold no thread meanwhile."""

GONE = {"type": "http.disconnect"}


class Bodies:
    """The bodies that one process reads."""

    def __init__(self) -> None:
        self._large = asyncio.Semaphore(LARGE_AT_ONCE)

    async def serve(self, scope: Message, receive: Receive, send: Send, pages: Callable) -> None:
        """Answer a request by `pages`, once its body is there, or as much of it as is waited for.

        Parameters
        ----------
        scope, receive, send : of the request (ASGI). pages : the application that answers in a thread.
        """
        if not _has_body(scope):
            await pages(scope, receive, send)
            return
        pieces: list[Message] = []
        size, more = 0, True
        while more and size <= GATHERED:
            piece = await _next(receive)
            if piece is None:
                await _refuse(send)
                return
            if piece["type"] == "http.disconnect":
                return
            pieces.append(piece)
            size, more = size + len(piece.get("body", b"")), piece.get("more_body", False)
        if not more:
            await pages(scope, _replayed(pieces, receive), send)
            return
        async with self._large:
            await pages(scope, _replayed(pieces, _impatient(receive)), send)


def _has_body(scope: Message) -> bool:
    headers = dict(scope["headers"])
    return headers.get(b"content-length", b"0") != b"0" or b"transfer-encoding" in headers


async def _next(receive: Receive) -> Message | None:
    """Return the next piece of a body; None where it does not come in time."""
    try:
        return await asyncio.wait_for(receive(), IDLE_S)
    except TimeoutError:
        return None


def _impatient(receive: Receive) -> Receive:
    """Return a receiver for which whoever sends nothing for long has gone."""

    async def wait() -> Message:
        return await _next(receive) or GONE

    return wait


def _replayed(pieces: list[Message], receive: Receive) -> Receive:
    """Return a receiver that has pieces that came already, and then what comes."""
    waiting = iter(pieces)

    async def one() -> Message:
        piece = next(waiting, None)
        return piece if piece is not None else await receive()

    return one


async def _refuse(send: Send) -> None:
    words = b"The request did not come whole in time. Send it again."
    headers = [(b"content-type", b"text/plain; charset=utf-8"), (b"connection", b"close")]
    await send({"type": "http.response.start", "status": 408, "headers": headers})
    await send({"type": "http.response.body", "body": words})
