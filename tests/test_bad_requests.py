"""Every view that changes something, under requests that no page would send: refused in words, never a failure of the
server.
"""

import inspect
import re
from pathlib import Path

import numpy as np
import pytest

from amberkeel.core.errors import KeelError
from amberkeel.core.tracks import TrackSet
from amberkeel.settings import from_environment
from amberkeel.store import edits
from amberkeel.store.models import Plate, Production, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import add_run
from amberkeel.web import create_app
from amberkeel.web.sent import Sent

SPOILT = (None, "x", -1, 1e30, [[]], {"x": 1}, True)


def views():
    """Return the views that take a post as (address, endpoint), shot 0 standing for the shot."""
    rules = create_app(from_environment()).url_map.iter_rules()
    return sorted((r.rule, r.endpoint) for r in rules if "POST" in r.methods)


@pytest.fixture(scope="module")
def posts(service):
    app = create_app(from_environment())
    return {rule: app.view_functions[endpoint] for rule, endpoint in views()}


@pytest.fixture(scope="module")
def bare_shot(database, service):
    """A shot with three tracks and a shape whose proxies are not made, so that no job starts."""
    frames, count = np.tile(np.arange(1001, 1006), 3), 15
    ones = np.ones(count)
    tracks = TrackSet(
        ["a", "b", "c"], np.array([0, 5, 10, 15]), frames, np.stack([frames - 900.0, 100.0 * ones], 1), 0.1 * ones, ones
    )
    with session(database) as opened:
        source = Path(service.environment["AMBERKEEL_PLATE_ROOTS"]) / "SKL_010" / "skl.####.png"
        plate = Plate(source=str(source), label="skl.####.png", first=1001, last=1040, width=640, height=360)
        shot = Shot(production=Production(name="Bad requests"), plate=plate, name="BARE_010")
        opened.add(shot)
        opened.flush()
        edits.apply(
            opened, shot.id, "tracks", {"remove": [], "bring": add_run(opened, shot, tracks), "label": "Follow"}
        )
        return shot.id


def keys_of(view) -> list[str]:
    """Return the names that a view's module looks up in what it is sent."""
    text = inspect.getsource(inspect.getmodule(view))
    return sorted(set(re.findall(r"(?:asked|given|payload|form|wanted|row|term)(?:\.get\(|\[)\"(\w+)\"", text)))


def test_what_is_sent_is_read_with_care():
    body = Sent(
        {"frame": "12", "share": 0.5, "rows": [1, "2"], "name": "a", "on": True, "part": {"x": 1}, "none": None}
    )
    assert (
        body.whole("frame"),
        body.number("share"),
        body.wholes("rows"),
        body.word("name"),
        body.part("part").whole("x"),
    ) == (12, 0.5, [1, 2], "a", 1)
    assert (
        body.whole("missing", 7),
        body.number("missing", 0.5),
        body.wholes("none"),
        body.part("none"),
        body.word("missing", "b"),
    ) == (7, 0.5, [], {}, "b")
    for read, words in (
        (lambda: body["missing"], "says no"),
        (lambda: body.whole("share"), "whole number"),
        (lambda: body.whole("on"), "whole number"),
        (lambda: body.number("name"), "no number"),
        (lambda: body.wholes("frame"), "no list"),
        (lambda: body.part("name"), "no object"),
        (lambda: body.word("on"), "no text"),
        (lambda: Sent({"f": 1e300}).whole("f"), "whole number"),
        (lambda: Sent({"f": "nan"}).number("f"), "no number"),
    ):
        with pytest.raises(KeelError, match=words):
            read()


def test_nothing_that_is_sent_breaks_the_server(client, posts, bare_shot):
    bodies = [None, [], "text", 7, {}]
    failed = []
    for rule, view in posts.items():
        address = re.sub(r"<(?:int:)?(\w+)>", lambda m: {"number": str(bare_shot)}.get(m[1], "1"), rule)
        if rule.endswith("/ingest"):
            continue
        for key in keys_of(view):
            for value in SPOILT:
                answer = client.post(address, json={key: value})
                if answer.status_code >= 500:
                    failed.append((rule, {key: value}))
        for body in [*bodies, *({key: value for key in keys_of(view)} for value in SPOILT)]:
            answer = client.post(address, json=body)
            if answer.status_code >= 500:
                failed.append((rule, body if body in bodies else f"all {list(body.values())[:1]}"))
    assert not failed, "\n".join(f"{rule}: {body}" for rule, body in failed[:60]) + f"\n{len(failed)} in all"
