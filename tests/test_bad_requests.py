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
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, read_body

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
    """Return the fields of the bodies that a view's module takes, and of what lies within them."""
    module = inspect.getmodule(view)
    bodies = [m for m in vars(module).values() if inspect.isclass(m) and issubclass(m, Body)]
    named = {field.alias or name for body in bodies for name, field in body.model_fields.items()}
    within = re.findall(r"(?:form|term)(?:\.get\(|\[)\"(\w+)\"", inspect.getsource(module))
    return sorted(named | set(within))


class Example(Body):
    frame: Whole
    share: Number = 0.5
    rows: list[Whole] = []
    name: Word = "b"
    on: Flag = False
    origin: dict | None = None


def test_what_is_sent_is_read_with_care():
    body = read_body(Example, {"frame": "12", "share": "0.25", "rows": [1, "2"], "name": 7, "on": 1, "origin": None})
    assert (body.frame, body.share, body.rows, body.name, body.on) == (12, 0.25, [1, 2], "7", True)
    assert body.says("origin") and not body.says("revision")
    bare = read_body(Example, {"frame": 3.0, "rows": None, "name": None, "unknown": 1})
    assert (bare.frame, bare.rows, bare.name, bare.revision) == (3, [], "b", None)
    with pytest.raises(KeelError, match="says no “origin”"):
        bare.need("origin")
    for given, words in (
        ({}, "says no “frame”"),
        ({"frame": None}, "says no “frame”"),
        ({"frame": 0.5}, "“frame” is no whole number"),
        ({"frame": True}, "whole number"),
        ({"frame": 1e300}, "whole number"),
        ({"frame": 1, "share": "nan"}, "“share” is no number"),
        ({"frame": 1, "rows": 12}, "“rows” is no list"),
        ({"frame": 1, "rows": [1, "x"]}, "“rows” is no whole number"),
        ({"frame": 1, "origin": "a"}, "“origin” is no object"),
        ({"frame": 1, "name": True}, "“name” is no text"),
        ([], "no object"),
    ):
        with pytest.raises(KeelError, match=words):
            read_body(Example, given)


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
