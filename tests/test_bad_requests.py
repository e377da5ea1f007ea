"""Every view that changes something, under requests that no page would send: refused in words, never a failure of the
server.
"""

import inspect
import json
import re
from io import BytesIO
from pathlib import Path

import numpy as np
import pytest
from flask import Flask

from amberkeel.core.errors import KeelError
from amberkeel.core.tracks import TrackSet
from amberkeel.settings import from_environment
from amberkeel.store import edits
from amberkeel.store.held import hold_shot
from amberkeel.store.models import Plate, Production, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import add_run
from amberkeel.web import create_app
from amberkeel.web.sent import Body, Flag, Number, Whole, Word, read_body
from amberkeel.web.uploads import uploaded

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


def sent_file(data: bytes, name: str, most: int = 100):
    """Read a file from a request that holds it."""
    app = Flask("uploads")
    with app.test_request_context(method="POST", data={"file": (BytesIO(data), name)}):
        return uploaded("a table (CSV)", most)


def test_files_are_taken_whole_or_refused_in_words():
    given = sent_file(b"\xef\xbb\xbfa,b\n1,2\n", "set/North wall.CSV")
    assert (given.name, given.stem, given.suffix) == ("North wall.CSV", "North wall", ".csv")
    assert given.text() == "a,b\n1,2\n", "a mark of the byte order is no part of a table"
    assert sent_file(b"", "../../plain").name == "plain" and sent_file(b"", "plain").suffix == ""
    assert len(sent_file(b"x" * 100, "full").data) == 100
    with pytest.raises(KeelError, match="path.csv is larger than 1 MB"):
        sent_file(b"x" * (1 << 20) + b"x", "path.csv", 1 << 20)
    with pytest.raises(KeelError, match="sheet.csv is no text"):
        sent_file(b"\xff\xfe\x00", "sheet.csv").text()
    for name in ("", None):
        with pytest.raises(KeelError, match="There is no file. Choose a table"):
            sent_file(b"a", name)


@pytest.mark.parametrize(
    ("address", "field", "most"),
    [
        ("lens/bring", "file", "amberkeel.web.lens.brought.MOST_BYTES"),
        ("constraints/path", "file", "amberkeel.web.evidence.MOST_PATH_BYTES"),
        ("ties/bring", "file", "amberkeel.web.ties.sets.MOST_BYTES"),
        ("survey", "file", "amberkeel.web.world.datum.MOST_BYTES"),
        ("world/import", "file", "amberkeel.web.world.mesh.MOST_BYTES"),
        ("tracks.csv", "table", "amberkeel.web.tracks.tables.TABLE_BYTES"),
    ],
)
def test_no_view_takes_a_part_of_a_file(client, bare_shot, monkeypatch, address, field, most):
    where = f"/shots/{bare_shot}/{address}"
    answer = client.post(where, data={"revision": 0})
    assert answer.status_code == 400 and "There is no file" in answer.text
    monkeypatch.setattr(most, 40)
    long = b"frame,x,y,z,rx,ry,rz\n" + b"1001,0,0,0,0,0,0\n" * 9
    answer = client.post(where, data={field: (BytesIO(long), "long.csv")}, content_type="multipart/form-data")
    assert answer.status_code == 400 and "long.csv is larger" in answer.text


DEEP = "[" * 3000 + "]" * 3000
HOSTILE = (
    "\0", "a\0b", "\ud800", "9" * 400, "1e9999999", "-1e-9999999", "nan", "inf", "²", "../../etc", "%00",
    "名前 \u202e x",
    '"; drop', "{{7*7}}", "<script>", "x" * 100_000, 2**63, -(2**63), 10**400, float("nan"), ["\0"], {"\0": "\0"},
    {"a": [{"b": None}]}, [[[[]]]],
)  # fmt: skip


def post(client, rule, address, body):
    """Send a body to a view; return what broke, or nothing."""
    answer = client.post(address, data=json.dumps(body), content_type="application/json")
    return (rule, str(body)[:80], answer.text[-200:]) if answer.status_code >= 500 else None


def brought_back(database, shot_id: int) -> int:
    """Take back that the shot or its production was deleted, which the one before may have done; return the
    production's number.
    """
    with session(database) as opened:
        shot = hold_shot(opened, shot_id)
        shot.deleted = shot.production.deleted = None
        return shot.production_id


def test_nothing_that_is_sent_breaks_the_server(client, database, posts, bare_shot):
    bodies = [None, [], "text", 7, {}]
    failed = []
    for turn, (rule, view) in enumerate(posts.items()):
        production = brought_back(database, bare_shot)
        number = str(production if rule.startswith("/productions/") else bare_shot)
        address = re.sub(r"<(?:int:)?(\w+)>", lambda m, number=number: {"number": number}.get(m[1], "1"), rule)
        if rule.endswith("/ingest"):
            continue
        keys = keys_of(view)
        # Alone each key gets a third of what is spoilt, and all keys together get it all, and half of what is hostile.
        failed += [post(client, rule, address, {key: v}) for k, key in enumerate(keys) for v in SPOILT[k % 3 :: 3]]
        if keys:
            values = (*SPOILT, *HOSTILE[turn % 2 :: 2])
            failed += [post(client, rule, address, dict.fromkeys(keys, value)) for value in values]
        failed += [post(client, rule, address, body) for body in bodies]
        for kind in ("application/x-www-form-urlencoded", "multipart/form-data"):
            for value in HOSTILE[:12:3] if keys else HOSTILE[:1]:
                words = {key: value.encode("utf-8", "surrogatepass") for key in keys if isinstance(value, str)}
                answer = client.post(address, data=words, content_type=kind)
                failed.append((rule, kind, value[:30]) if answer.status_code >= 500 else None)
        for raw in (DEEP, '{"a":' * 900 + "1" + "}" * 900, "{", "\x00", "[1e400]", '"\\ud800"'):
            answer = client.post(address, data=raw, content_type="application/json")
            failed.append((rule, raw[:30], answer.text[-200:]) if answer.status_code >= 500 else None)
    failed = [one for one in failed if one]
    assert not failed, "\n".join(map(str, failed[:60])) + f"\n{len(failed)} in all"


ASKED = ("stack", "lens", "a", "b", "frame", "root", "path", "source", "kind", "images")


def test_no_address_breaks_the_server(client, bare_shot):
    failed = []
    rules = [r for r in create_app(from_environment()).url_map.iter_rules() if "GET" in r.methods]
    for rule in rules:
        for value in ("0", "99999999999999999999", "-1", "%00", "%ff", "x", "..%2f..%2fetc", "%E5%90%8D", "a" * 5000):
            address = re.sub(r"<(?:int:|path:)?(\w+)>", value, rule.rule)
            own = re.sub(r"<(?:int:)?number>", str(bare_shot), rule.rule)
            own = re.sub(r"<(?:int:|path:)?(\w+)>", value, own)
            asked = "&".join(f"{key}={value}" for key in ASKED)
            for where in {address, own, f"{own}?{asked}", f"{own}?source=root:{value}:{value}"}:
                answer = client.get(where)
                if answer.status_code >= 500:
                    failed.append((where[:150], answer.text[-200:]))
    assert not failed, "\n".join(map(str, failed[:40])) + f"\n{len(failed)} in all"


def test_a_body_too_large_is_not_read(client, bare_shot):
    big = b'{"label": "' + b"x" * 40 * 1024**2 + b'"}'
    answer = client.post(f"/shots/{bare_shot}/edit", data=big, content_type="application/json")
    assert answer.status_code == 413


def test_undo_does_not_take_back_what_another_one_did_since(client, bare_shot):
    def edit(**body):
        return client.post(f"/shots/{bare_shot}/edit", json={"kind": "states", **body})

    ids = client.get(f"/shots/{bare_shot}/tracks.json").json["ids"]
    seen = edit(payload={"states": {"excluded": ids[:1]}}).json["revision"]
    edit(payload={"states": {"excluded": ids[1:2]}})
    answer = client.post(f"/shots/{bare_shot}/undo", json={"revision": seen})
    assert answer.status_code == 409 and "has changed since" in answer.json["error"]
    for _ in range(2):
        assert client.post(f"/shots/{bare_shot}/undo", json={}).status_code == 200


def test_an_unknown_matte_gets_into_no_mask(client, bare_shot):
    made = client.post(f"/shots/{bare_shot}/masks", json={"points": [], "name": "Hands"}).json["mask"]
    for values in (
        {"mattes": ["0" * 64], "frames": [1001]},
        {"keys": {"x": {"points": [[0] * 6] * 3}}},
        {"samples": [[1001, "a", 2, True]]},
        {"cleaning": {"grow": 1e9}},
        {"colour": "red"},
    ):
        answer = client.post(f"/shots/{bare_shot}/masks/{made}", json={"values": values})
        assert answer.status_code == 400, values
    assert client.get(f"/shots/{bare_shot}/masks.json").status_code == 200


def test_the_loupe_shows_no_other_shots_tracks(client, bare_shot, solved_shot):
    theirs = client.get(f"/shots/{solved_shot}/tracks.json").json["ids"][0]
    asked = {"frame": 1001, "x": 100, "y": 100, "track": theirs}
    assert "gone" in client.post(f"/shots/{bare_shot}/loupe", json=asked).json["error"]


def test_a_datum_takes_no_other_shots_tracks(client, bare_shot, solved_shot):
    own, theirs = (client.get(f"/shots/{shot}/tracks.json").json["ids"] for shot in (solved_shot, bare_shot))
    asked = {"what": "ground", "tracks": [*own[:3], theirs[0]]}
    answer = client.post(f"/shots/{solved_shot}/datum", json=asked)
    assert answer.status_code == 400 and "another shot's" in answer.json["error"]
    assert "ground" not in client.get(f"/shots/{solved_shot}/state.json").json["datum"]
