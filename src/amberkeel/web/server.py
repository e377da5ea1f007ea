"""What the web server runs: streams of news as coroutines, and all pages by the Flask application, in threads.

Hundreds of pages keep a stream open all day. With a thread for each of them a few dozen would stop the application.
"""

import asyncio
from urllib.parse import parse_qs

from a2wsgi import WSGIMiddleware

from amberkeel.core.foreign.door import get_ready
from amberkeel.settings import Settings, from_environment
from amberkeel.web import create_app
from amberkeel.web.bodies import Bodies
from amberkeel.web.news import News

THREADS = 24
"""Pages that one process makes at a time."""

MOST_SHOTS = 400
"""Shots that one stream may follow."""

EVENTS = "/events"
"""Where the news are, as ``/events?shots=1,2``."""


def make() -> "Server":
    """Return the server of the environment's installation."""
    return Server(from_environment())


class Server:
    """The application as the web server calls it (ASGI)."""

    def __init__(self, settings: Settings):
        self.settings = settings
        self.news = News(settings.database)
        self.bodies = Bodies()
        self.pages = WSGIMiddleware(create_app(settings), workers=THREADS)

    async def __call__(self, scope, receive, send) -> None:
        """Answer a request, or start and stop with the server."""
        if scope["type"] == "lifespan":
            await self._live(receive, send)
        elif scope["type"] == "http" and scope["path"] == EVENTS:
            await self._stream(scope, receive, send)
        elif scope["type"] == "http":
            await self.bodies.serve(scope, receive, send, self.pages)

    async def _live(self, receive, send) -> None:
        while True:
            event = (await receive())["type"]
            if event == "lifespan.startup":
                self.news.start()
                self._ready = asyncio.create_task(asyncio.to_thread(get_ready))
            else:
                self.news.stop()
            await send({"type": f"{event}.complete"})
            if event == "lifespan.shutdown":
                return

    async def _stream(self, scope, receive, send) -> None:
        shots = _shots(scope["query_string"])
        if not self._trusted(scope) or shots is None:
            await send({"type": "http.response.start", "status": 400, "headers": [(b"content-type", b"text/plain")]})
            await send({"type": "http.response.body", "body": b"Not a stream of this application."})
            return
        headers = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-cache")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})
        telling = asyncio.create_task(self._tell(shots, send))
        try:
            while (await receive())["type"] != "http.disconnect":
                pass
        finally:
            telling.cancel()

    async def _tell(self, shots: set[int], send) -> None:
        async for text in self.news.follow(shots):
            line = f"data: {text}\n\n" if text else ": still here\n\n"
            await send({"type": "http.response.body", "body": line.encode(), "more_body": True})

    def _trusted(self, scope) -> bool:
        host = dict(scope["headers"]).get(b"host", b"").decode("latin-1").rsplit(":", 1)[0]
        return host in self.settings.hosts


def _shots(query: bytes) -> set[int] | None:
    """Return the shots that a query names; None where it names none, or not by their numbers."""
    words = parse_qs(query.decode("latin-1")).get("shots", [""])[0].split(",")
    if not 0 < len(words) <= MOST_SHOTS or not all(
        word.isascii() and word.isdigit() and len(word) < 10 for word in words
    ):
        return None
    return {int(word) for word in words}
