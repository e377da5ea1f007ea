"""What the pages are told while they are open: jobs and revisions of shots, as the database tells of them.

PostgreSQL notifies of every change (LISTEN and NOTIFY); one connection a process hears it, asks once for what is new,
and hands it to all streams that follow the shot. A stream is a coroutine and holds no thread.
"""

import asyncio
import json
import logging
from collections.abc import AsyncIterator, Iterable

import psycopg
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from amberkeel.store.jobs import waiting_words
from amberkeel.store.models import Job, Shot
from amberkeel.store.session import session

CHANNEL = "shot_news"

MOST_JOBS = 4
"""Jobs of a shot that are told of, the newest."""

GATHER_S = 0.05
"""Seconds in which changes are gathered before they are asked for."""

GATHER_A_STREAM_S = 0.002
"""The same for each open stream, where that is longer: telling hundreds of pages takes time that pages lack."""

RETRY_S = 1.0
"""Pause before the database is listened to again."""

QUIET_S = 15.0
"""Seconds after which a stream says that it still lives."""


def news_of(database: str, shots: Iterable[int]) -> dict[int, str]:
    """Return the revision and the newest jobs of shots, as JSON by the shot's number; without those that are no more.

    Parameters
    ----------
    database : address. shots : numbers.
    """
    wanted = list(shots)
    with session(database) as opened:
        revisions = opened.execute(select(Shot.id, Shot.revision).where(Shot.id.in_(wanted))).all()
        return {
            number: json.dumps({"shot": number, "revision": revision, "jobs": [_told(opened, job) for job in jobs]})
            for number, revision in revisions
            for jobs in [
                opened.scalars(select(Job).where(Job.shot_id == number).order_by(Job.id.desc()).limit(MOST_JOBS)).all()
            ]
        }


def _told(opened: Session, job: Job) -> dict:
    return {
        "id": job.id,
        "kind": job.kind,
        "state": job.state,
        "progress": round(job.progress, 3),
        "doing": waiting_words(opened, job) if job.state == "queued" else job.doing,
        "error": job.error,
        "frame": (job.result or {}).get("frame"),
    }


class News:
    """The news of one database, for all streams of a process."""

    def __init__(self, database: str):
        self.database = database
        self._followers: dict[int, set[_Follower]] = {}
        self._changed: set[int] = set()
        self._wake = asyncio.Event()
        self._tasks: list[asyncio.Task] = []

    def start(self) -> None:
        """Begin to listen; to be called in the event loop."""
        self._tasks = [asyncio.create_task(self._listen()), asyncio.create_task(self._tell())]

    def stop(self) -> None:
        """Stop listening."""
        for task in self._tasks:
            task.cancel()

    async def follow(self, shots: set[int]) -> AsyncIterator[str]:
        """Yield the news of shots whenever something changes, at first as they stand; "" after a while of silence."""
        own = _Follower()
        for shot in shots:
            self._followers.setdefault(shot, set()).add(own)
        self._ask(shots)
        try:
            while True:
                yield await own.next()
        finally:
            for shot in shots:
                self._followers[shot].discard(own)
                if not self._followers[shot]:
                    del self._followers[shot]

    def _ask(self, shots: Iterable[int]) -> None:
        self._changed.update(shots)
        self._wake.set()

    async def _listen(self) -> None:
        address = self.database.replace("+psycopg", "", 1)
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(address, autocommit=True) as link:
                    await link.execute(f"listen {CHANNEL}")
                    # What changed while nobody listened.
                    self._ask(self._followers)
                    async for notice in link.notifies():
                        if int(notice.payload) in self._followers:
                            self._ask([int(notice.payload)])
            except psycopg.OperationalError:
                await asyncio.sleep(RETRY_S)

    async def _tell(self) -> None:
        while True:
            await self._wake.wait()
            await asyncio.sleep(max(GATHER_S, GATHER_A_STREAM_S * sum(map(len, self._followers.values()))))
            self._wake.clear()
            shots, self._changed = self._changed, set()
            try:
                told = await asyncio.to_thread(news_of, self.database, shots)
            except OperationalError:
                await asyncio.sleep(RETRY_S)
                self._ask(shots)
                continue
            except Exception:
                # One shot that cannot be told of must not silence all others.
                logging.getLogger(__name__).exception("News of shots %s could not be read", sorted(shots))
                continue
            for shot, text in told.items():
                for one in self._followers.get(shot, ()):
                    one.tell(shot, text)


class _Follower:
    """One stream: the newest news of each shot that it has not sent yet, and what it sent last."""

    def __init__(self) -> None:
        self._waiting: dict[int, str] = {}
        self._sent: dict[int, str] = {}
        self._wake = asyncio.Event()

    def tell(self, shot: int, text: str) -> None:
        if self._sent.get(shot) != text:
            self._waiting[shot] = text
            self._wake.set()

    async def next(self) -> str:
        """Return what is to be sent next, "" where nothing has come for a while."""
        if not self._waiting:
            self._wake.clear()
            try:
                await asyncio.wait_for(self._wake.wait(), QUIET_S)
            except TimeoutError:
                return ""
        shot, text = self._waiting.popitem()
        self._sent[shot] = text
        return text
