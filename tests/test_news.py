"""What open pages are told: streams that hold no thread, one for all tabs of a browser, under hosts that are known."""

import http.client
import json
import socket
import time

import pytest
from sqlalchemy import delete

from amberkeel.store.held import count_change, hold_shot
from amberkeel.store.jobs import add_job
from amberkeel.store.models import Job
from amberkeel.store.session import session

STREAMS = 300


@pytest.fixture
def port(service):
    return int(service.address.rsplit(":", 1)[1])


def opened_stream(port: int, shots: str, host: str = "127.0.0.1") -> socket.socket:
    link = socket.create_connection(("127.0.0.1", port), timeout=30)
    link.sendall(f"GET /events?shots={shots} HTTP/1.1\r\nHost: {host}:{port}\r\n\r\n".encode())
    return link


def read_news(link: socket.socket, until) -> list[dict]:
    """Return the news of a stream up to the first that `until` holds for."""
    text, told, late = "", [], time.monotonic() + 30.0
    while not told or not until(told[-1]):
        assert time.monotonic() < late, text
        text += link.recv(65536).decode()
        told = [json.loads(line.removeprefix("data: ")) for line in text.split("\n\n") if "data: " in line
                for line in [line[line.index("data: "):].split("\r\n")[0]]]  # fmt: skip
    return told


def test_news_come_as_soon_as_something_changes(port, database, solved_shot):
    with opened_stream(port, str(solved_shot)) as link:
        first = read_news(link, lambda news: True)[-1]
        assert first["shot"] == solved_shot
        with session(database) as opened:
            count_change(opened, hold_shot(opened, solved_shot))
        began = time.monotonic()
        read_news(link, lambda news: news["revision"] == first["revision"] + 1)
        assert time.monotonic() - began < 5.0
        with session(database) as opened:
            job = add_job(opened, "nothing", solved_shot).id
        waits = read_news(link, lambda news: news["jobs"] and news["jobs"][0]["id"] == job)[-1]["jobs"][0]
        assert waits["state"] == "queued" and waits["doing"].startswith("Waiting")
        with session(database) as opened:
            opened.execute(delete(Job).where(Job.id == job))


def test_hundreds_of_streams_leave_the_pages_alone(port, database, solved_shot):
    streams = [opened_stream(port, str(solved_shot)) for _ in range(STREAMS)]
    try:
        for link in streams:
            read_news(link, lambda news: True)
        page = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        for _ in range(5):
            page.request("GET", "/")
            assert page.getresponse().read()
        with session(database) as opened:
            revision = count_change(opened, hold_shot(opened, solved_shot))
        for link in streams:
            read_news(link, lambda news: news["revision"] >= revision)
    finally:
        for link in streams:
            link.close()


@pytest.mark.parametrize("shots", ["", "x", "1,-2", "9" * 12, ",".join("1" * 500)])
def test_a_stream_of_nothing_is_refused(port, shots):
    with opened_stream(port, shots) as link:
        assert b"400" in link.recv(4096).split(b"\r\n")[0]


def test_only_known_hosts_are_answered(port, client, solved_shot):
    for path in ("/", f"/shots/{solved_shot}/solve", f"/events?shots={solved_shot}"):
        page = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        page.request("GET", path, headers={"Host": "elsewhere.example"})
        assert page.getresponse().status == 400


def test_seven_tabs_of_a_browser_all_open(browser, service, solved_shot):
    tabs = browser.new_context()
    try:
        for _ in range(7):
            page = tabs.new_page()
            page.set_default_timeout(30_000)
            page.goto(f"{service.address}/shots/{solved_shot}/tracks")
            page.wait_for_selector("body[data-ready]")
    finally:
        tabs.close()
