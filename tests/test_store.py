"""The store on its own: histories, stages, findings and datum, on the real database."""

import json
from dataclasses import replace

import numpy as np
import pytest
from simulated import lowest
from sqlalchemy import select

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.document import document_in_world, read_path
from amberkeel.core.solve.residuals import residuals
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.store import edits
from amberkeel.store.casebook import findings
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import Job, Plate, Production, Shot, Track
from amberkeel.store.session import session
from amberkeel.store.solve import document_of, ledger, solution_of, stamps_of, store_attempt
from amberkeel.store.stages import attentions, stages
from amberkeel.store.tracks import add_run, live_tracks, to_track_set
from amberkeel.store.world import datum_of, datum_where_found


@pytest.fixture(scope="module")
def shot_id(database, service):
    with session(database) as opened:
        plate = Plate(source="nowhere", label="skl.####.png", first=1001, last=1040, width=640, height=360)
        shot = Shot(production=Production(name="Stored"), name="SKL_010", plate=plate)
        opened.add(shot)
        opened.flush()
        return shot.id


@pytest.fixture
def opened(database):
    with session(database) as live:
        yield live


def state_of(opened, shot_id, key):
    opened.flush()
    return next(s for s in stages(opened, opened.get(Shot, shot_id)) if s.key == key)


def test_tracks_come_back_as_they_went_in(opened, shot_id, tracks):
    shot = opened.get(Shot, shot_id)
    assert state_of(opened, shot_id, "tracks").state == "untouched"
    ids = add_run(opened, shot, tracks)
    assert not live_tracks(opened, shot)
    edits.apply(opened, shot_id, "tracks", {"remove": [], "bring": ids, "label": "Follow"})
    back = to_track_set(live_tracks(opened, shot))
    assert back.names == tracks.names and np.array_equal(back.frames, tracks.frames)
    assert np.allclose(back.xy, tracks.xy, atol=1e-4) and np.allclose(back.sigma, tracks.sigma, atol=1e-4)
    assert state_of(opened, shot_id, "tracks").fact == f"{len(tracks)} tracks"


def test_a_second_run_stands_in_for_the_first_until_undone(opened, shot_id, tracks):
    shot = opened.get(Shot, shot_id)
    old = [t.id for t in live_tracks(opened, shot)]
    new = add_run(opened, shot, tracks.take(np.arange(30)))
    edits.apply(opened, shot_id, "tracks", {"remove": old, "bring": new, "label": "Follow again"})
    assert len(live_tracks(opened, shot)) == 30
    assert edits.undo(opened, shot_id) == "Follow again"
    assert [t.id for t in live_tracks(opened, shot)] == old
    edits.redo(opened, shot_id)
    assert len(live_tracks(opened, shot)) == 30
    edits.undo(opened, shot_id)


def test_long_histories_go_back_and_forth(opened, shot_id):
    shot = opened.get(Shot, shot_id)
    ids = [t.id for t in live_tracks(opened, shot)]

    def picture():
        opened.flush()
        opened.expire_all()
        return dict(opened.execute(select(Track.id, Track.state).where(Track.shot_id == shot_id, ~Track.removed)).all())

    pictures = [picture()]
    steps = [
        ("states", {"states": {"excluded": ids[:40]}}),
        ("states", {"states": {"check": ids[20:60]}}),
        ("tracks", {"remove": ids[50:90]}),
        ("states", {"states": {"active": ids[:30], "excluded": ids[100:110]}}),
    ]
    for kind, payload in steps:
        edits.apply(opened, shot_id, kind, payload)
        pictures.append(picture())
    assert len({frozenset(p.items()) for p in pictures}) == 5
    for before in reversed(pictures[:-1]):
        edits.undo(opened, shot_id)
        assert picture() == before
    for after in pictures[1:]:
        edits.redo(opened, shot_id)
        assert picture() == after
    for _ in steps:
        edits.undo(opened, shot_id)
    edits.apply(opened, shot_id, "states", {"states": {"check": ids[:1]}})
    with pytest.raises(KeelError, match="nothing to redo"):
        edits.redo(opened, shot_id)
    edits.undo(opened, shot_id)
    labels = [e.label for e in edits.history(opened, shot_id)]
    assert "Withhold 1 track" in labels and len(labels) <= 40


def test_two_thousand_tracks_are_one_edit(opened, shot_id, tracks):
    shot = opened.get(Shot, shot_id)
    many = tracks.take(np.resize(np.arange(len(tracks)), 2000))
    many = type(many)([f"m{k:04d}" for k in range(2000)], many.first, many.frames, many.xy, many.sigma, many.score)
    ids = add_run(opened, shot, many)
    edits.apply(opened, shot_id, "tracks", {"remove": [], "bring": ids})
    edits.apply(opened, shot_id, "states", {"states": {"excluded": ids}})
    assert sum(t.state == "excluded" for t in live_tracks(opened, shot)) == 2000
    edits.undo(opened, shot_id)
    edits.undo(opened, shot_id)
    assert sum(t.state == "excluded" for t in live_tracks(opened, shot)) == 0


def test_foreign_tracks_and_attempts_are_left_alone(opened, shot_id):
    other = Shot(production=opened.get(Shot, shot_id).production, name="other")
    opened.add(other)
    opened.flush()
    ids = [t.id for t in live_tracks(opened, opened.get(Shot, shot_id))][:5]
    for kind, payload in [
        ("states", {"states": {"excluded": ids}}),
        ("tracks", {"remove": ids}),
        ("pin", {"attempt": 999999}),
    ]:
        with pytest.raises(KeelError):
            edits.apply(opened, other.id, kind, payload)
    with pytest.raises(KeelError, match="no track state"):
        edits.apply(opened, shot_id, "states", {"states": {"lost": ids}})
    with pytest.raises(KeelError, match="no such shot"):
        edits.apply(opened, 10**6, "pin", {"attempt": None})


def test_attempts_stages_and_findings(opened, shot_id, service, plate):
    shot, media = opened.get(Shot, shot_id), Media(service.environment["AMBERKEEL_MEDIA"])
    rows = live_tracks(opened, shot)
    solution = solve_tracks(to_track_set(rows), plate.frames, 640, 360)
    assert findings(opened, shot, None) == []
    attempt = store_attempt(opened, media, shot, solution, stamps_of(opened, shot))
    edits.apply(opened, shot_id, "pin", {"attempt": attempt.id})
    assert state_of(opened, shot_id, "solve").state == "settled"
    assert state_of(opened, shot_id, "lens").fact.startswith("f 2")
    assert attentions(opened, [shot])[shot.id] == ""
    document = document_of(media, attempt)
    assert np.allclose(read_path(document).positions, solution.path.positions)
    # What was kept can be judged again, by its own camera and by another one.
    kept = solution_of(media, attempt)
    assert np.allclose(kept.residuals, solution.residuals, equal_nan=True, atol=1e-4)
    assert kept.reasons == solution.reasons and kept.lens_report.values == solution.lens_report.values
    again = kept.judged(kept.path)
    assert again.rms_px == pytest.approx(solution.rms_px, rel=1e-4) and again.counts == solution.counts
    wobbly = replace(kept.path, positions=kept.path.positions + 0.02 * np.sin(np.arange(len(plate.frames)))[:, None])
    assert kept.judged(wobbly).rms_px > 3.0 * solution.rms_px
    assert residuals(kept.path, kept.points, kept.tracks.take(np.array([3]))) == pytest.approx(
        solution.residuals[solution.tracks.rows(3)], nan_ok=True, abs=1e-6
    )
    words = " ".join(f["text"] for f in findings(opened, shot, attempt))
    assert "set aside" in words and "Focal length" in words
    edits.apply(opened, shot_id, "states", {"states": {"excluded": [rows[0].id]}})
    assert state_of(opened, shot_id, "solve").state == "look"
    assert "Tracks changed" in attentions(opened, [shot])[shot.id]
    edits.undo(opened, shot_id)
    again = store_attempt(opened, media, shot, solution, stamps_of(opened, shot))
    assert [a.number for a in ledger(opened, shot)] == [2, 1] and again.document == attempt.document


def test_the_ledger_is_named_emptied_and_gone_back_to(opened, shot_id):
    shot = opened.get(Shot, shot_id)
    second, first = ledger(opened, shot)
    edits.apply(opened, shot_id, "attempt", {"attempt": second.id, "name": "without the mast", "note": "a trial"})
    assert (second.name, second.note) == ("without the mast", "a trial")
    edits.apply(opened, shot_id, "attempt", {"attempt": second.id, "removed": True})
    assert ledger(opened, shot) == [first]
    edits.undo(opened, shot_id)
    assert ledger(opened, shot) == [second, first]
    with pytest.raises(KeelError, match="pinned"):
        edits.apply(opened, shot_id, "attempt", {"attempt": first.id, "removed": True})
    with pytest.raises(KeelError, match="name"):
        edits.apply(opened, shot_id, "attempt", {"attempt": first.id, "name": "n" * 81})
    # Going back is one edit: tracks and constraints as they were, the attempt pinned; undo goes on again.
    ids = [track.id for track in live_tracks(opened, shot)][:4]
    stamp = shot.tracks_stamp
    edits.apply(opened, shot_id, "states", {"states": {"excluded": ids}})
    edits.apply(opened, shot_id, "constraints", {"constraints": [], "label": "Nothing known"})
    edits.apply(opened, shot_id, "pin", {"attempt": second.id})
    edits.go_back(opened, shot_id, first.id)
    assert shot.pinned_id == first.id and shot.tracks_stamp == stamp
    assert not {track.id for track in live_tracks(opened, shot) if track.state == "excluded"} & set(ids)
    assert second.name == "without the mast"
    edits.undo(opened, shot_id)
    assert shot.pinned_id == second.id and shot.tracks_stamp != stamp
    assert {track.id for track in live_tracks(opened, shot) if track.state == "excluded"} >= set(ids)
    for _ in range(3):
        edits.undo(opened, shot_id)
    with pytest.raises(KeelError, match="still as"):
        edits.go_back(opened, shot_id, first.id)


def test_an_attempt_of_the_first_version_is_read_as_one_of_now(opened, shot_id, service):
    shot, media = opened.get(Shot, shot_id), Media(service.environment["AMBERKEEL_MEDIA"])
    attempt = ledger(opened, shot)[-1]
    now, kept = document_of(media, attempt), attempt.document
    report = now["lens_report"]
    values = [
        {**{k: v for k, v in one.items() if k != "determined"}, "told": one["determined"]} for one in report["values"]
    ]
    points = [{k: v for k, v in point.items() if k not in ("id", "reason_code")} for point in now["points"]]
    old = {**now, "version": 1, "points": points, "lens_report": {**report, "values": values, "held_out": []}}
    old.pop("terms")
    hold_shot(opened, shot_id)
    attempt.document = media.put(json.dumps(old).encode())
    read = document_of(media, attempt)
    assert read["version"] == 2 and read["terms"] == [] and read["lens_report"]["values"] == report["values"]
    assert [p["id"] for p in read["points"]] == [p["id"] for p in now["points"]]
    attempt.document = media.put(json.dumps({**old, "points": []}).encode())
    assert document_of(media, attempt)["version"] == 2
    attempt.document = kept


def test_the_datum_is_set_on_solved_points(opened, shot_id, service):
    shot, media = opened.get(Shot, shot_id), Media(service.environment["AMBERKEEL_MEDIA"])
    attempt = ledger(opened, shot)[-1]
    document = document_of(media, attempt)
    ids = {t.name: t.id for t in live_tracks(opened, shot)}
    low = lowest(document["points"], 40)
    chosen = [p["id"] for p in low]
    assert chosen == [ids[p["track"]] for p in low]
    hold_shot(opened, shot_id)
    shot.datum = {"ground": chosen, "origin": chosen[:1], "scale": {"tracks": chosen[3:5], "metres": 2.45}}
    datum = datum_of(opened, media, shot, attempt)
    world = document_in_world(document, datum)
    position = {p["track"]: np.array(p["xyz"]) for p in world["points"]}
    assert np.linalg.norm(position[low[3]["track"]] - position[low[4]["track"]]) == pytest.approx(2.45)
    assert np.abs(position[low[0]["track"]][[0, 2]]).max() < 1e-9
    before, after = read_path(document), read_path(world)
    raw = np.array([p["xyz"] for p in document["points"]])
    moved = np.array([p["xyz"] for p in world["points"]])
    assert np.allclose(before.project(raw, 5), after.project(moved, 5), atol=1e-6, equal_nan=True)
    assert state_of(opened, shot_id, "world").state == "settled"
    # Axis lines that say what the solve's first camera says turn nothing; with a height above the ground they give the
    # scale.
    first = read_path(document).frames[0]
    axes = {"rotations": {str(first): read_path(document).world_from_camera[0].tolist()}, "place": None}
    shot.datum = {"axes": axes}
    assert (
        np.allclose(datum_of(opened, media, shot, attempt).rotation, np.eye(3))
        and state_of(opened, shot_id, "world").fact == "ground"
    )
    shot.datum = {"ground": chosen, "axes": {**axes, "place": {"frame": int(first), "xyz": [0.5, 1.7, 3.0]}}}
    placed = datum_of(opened, media, shot, attempt)
    assert placed.camera(read_path(document)).positions[0] == pytest.approx([0.5, 1.7, 3.0], abs=1e-6)
    assert (
        state_of(opened, shot_id, "world").state == "settled"
        and state_of(opened, shot_id, "world").fact == "ground, origin, scale"
    )
    # A track is meant by its id: another name changes nothing, and another track of the old name stands in for nothing.
    shot.datum = {"origin": chosen[:1]}
    before, renamed = datum_of(opened, media, shot, attempt), opened.get(Track, chosen[0])
    name, renamed.name = renamed.name, "mast head"
    other = opened.get(Track, chosen[1])
    other.name = name
    opened.flush()
    assert np.allclose(datum_of(opened, media, shot, attempt).translation, before.translation)
    shot.datum = {"origin": [10**9]}
    assert "number 1000000000 has no point" in datum_where_found(opened, media, shot, attempt)[1]
    shot.datum = {}


def test_the_board_says_what_failed(opened, shot_id):
    opened.add(Job(shot_id=shot_id, kind="solve", state="failed", error="The camera does not move."))
    opened.flush()
    assert attentions(opened, [opened.get(Shot, shot_id)])[shot_id] == "The camera does not move."
    opened.add(Job(shot_id=shot_id, kind="follow", state="running"))
    assert state_of(opened, shot_id, "tracks").state == "working"


def test_media_refuses_what_is_no_hash(tmp_path):
    media = Media(tmp_path)
    for bad in ("", "../../etc/passwd", "A" * 64, "0" * 63):
        with pytest.raises(KeelError):
            media.path(bad)
    kept = media.put_arrays(a=np.arange(5), b=np.eye(2))
    assert np.array_equal(media.get_arrays(kept)["b"], np.eye(2))
