"""A shot that two people and jobs change at once, in any order, against a plain model of what must then stand.

Each person's session keeps what it loaded long ago, as a page or a job that thinks for a while does. After each step
the model and the database agree: every edit that was answered is there or in the history, revisions only grow, and
what was refused has changed nothing.
"""

import copy
import os
from uuid import uuid4

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test
from sqlalchemy import select, update

from amberkeel.core.errors import KeelError
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.claims import Lane, claim_next, working
from amberkeel.settings import from_environment
from amberkeel.store import edits, keeping
from amberkeel.store.edits import StaleEdit
from amberkeel.store.held import hold_shot
from amberkeel.store.jobs import add_job
from amberkeel.store.models import Attempt, Edit, Job, Mask, Plate, Production, Shot, Track, Trial
from amberkeel.store.session import maker, session

EXAMPLES = int(os.environ.get("KEEL_EXAMPLES", "10"))
"""Runs of the machine; more are looked through by `KEEL_EXAMPLES=500 ./keel test tests/test_store_machine.py`."""

EVERYTHING = {"all"}
MACHINE = Lane(frozenset({"machine"}))
PEOPLE = st.integers(0, 1)
NUMBERS = st.integers(0, 5)

BEGUN = {
    "datum": {}, "note": "", "constraints": [], "scene": {}, "ties": {}, "bodies": {}, "replaced": "", "lens": {},
    "pinned": None, "decided": "", "kept_away": False, "renamed": {},
}  # fmt: skip


def known(n):
    """A constraint like no other."""
    return {"kind": "anchor", "track": 1, "xyz": [float(n), 0.0, 0.0]}


class Shots(RuleBasedStateMachine):
    """One shot with six tracks and two masks; `database` is set by the test."""

    database = ""

    @initialize()
    def begin(self):
        self.people, self.loaded = [maker(self.database)() for _ in range(2)], [None, None]
        with session(self.database) as opened:
            opened.execute(update(Job).where(Job.kind == "machine", Job.state != "done").values(state="cancelled"))
            plate = Plate(source="nowhere", label="x.####.png", first=1, last=9, width=64, height=36, proxies=9 * ["p"])
            shot = Shot(production=Production(name=f"Machine {uuid4()}"), name="MAC_010", plate=plate)
            opened.add(shot)
            opened.flush()
            tracks = [
                Track(shot_id=shot.id, name=f"t{k}", kind="hand", state=ACTIVE, frames=[1, 2], x=[1.0, 2.0],
                      y=[1.0, 2.0], sigma=[0.1, 0.1], score=[1.0, 1.0])
                for k in range(6)
            ]  # fmt: skip
            masks = [Mask(shot_id=shot.id, name=f"m{k}", kind="shape", removed=False) for k in range(2)]
            opened.add_all([*tracks, *masks])
            opened.flush()
            self.shot, self.tracks, self.masks = shot.id, [t.id for t in tracks], [m.id for m in masks]
        self.state = {
            **copy.deepcopy(BEGUN), "states": dict.fromkeys(self.tracks, ACTIVE), "there": set(self.tracks),
            "masks": dict.fromkeys(self.masks, True),
        }  # fmt: skip
        self.done, self.undone, self.attempts, self.trial = [], [], [], None
        self.revision, self.deleted, self.events, self.seen = 0, False, [], [0, 0]

    def teardown(self):
        for one in getattr(self, "people", []):
            one.close()

    # What people do.

    @rule(who=PEOPLE)
    def look(self, who):
        """Load the shot and all that is its own; the session keeps it, as long as somebody holds on to it."""
        one = self.people[who]
        with one.begin():
            shot = one.get(Shot, self.shot)
            tables = (Track, Mask, Attempt, Trial)
            rows = [list(one.scalars(select(table).where(table.shot_id == self.shot))) for table in tables]
            self.loaded[who] = shot, shot.plate, rows
        self.seen[who] = self.revision

    def edit(self, who, kind, payload, after, touched, on_seen):
        """Make an edit as a person; `after` changes the model's state where it is taken."""
        seen = self.seen[who] if on_seen else None
        try:
            with self.people[who].begin():
                edits.apply(self.people[who], self.shot, kind, payload, seen)
        except StaleEdit:
            assert seen is not None and seen < self.revision and not self.deleted
            return
        except KeelError:
            assert self.deleted
            return
        assert not self.deleted
        if seen is not None:
            since = [what for number, what in self.events if number > seen]
            assert not any(what & touched or EVERYTHING & (what | touched) for what in since), "an edit was lost"
        before = copy.deepcopy(self.state)
        after(self.state)
        self.undone.clear()
        self.done.append((kind, before, copy.deepcopy(self.state), touched, payload))
        self.moved(touched)
        self.seen[who] = self.revision

    def moved(self, touched):
        self.revision += 1
        self.events.append((self.revision, touched))

    @rule(who=PEOPLE, what=st.sampled_from(["datum", "scene"]), n=NUMBERS, seen=st.booleans())
    def whole(self, who, what, n, seen):
        value = {"kind": "box", "name": f"box {n}"} if what == "scene" else {"origin": [n]}
        payload = {"datum": value} if what == "datum" else {"proxies": {"p": value}, "label": "Scene"}
        if what == "scene":
            after = {"proxies": {"p": value}}
            self.edit(who, what, payload, lambda s: s.update(scene=after), {("scene",)}, seen)
        else:
            self.edit(who, what, payload, lambda s: s.update(datum=value), {("datum",)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def note(self, who, n, seen):
        self.edit(who, "named", {"note": f"note {n}"}, lambda s: s.update(note=f"note {n}"), {("named",)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def constraint(self, who, n, seen):
        """As a page does: it adds to the list that it has loaded, in the transaction in which the shot is held."""
        one = known(n)

        def after(state):
            state["constraints"] = [*state["constraints"], one]

        kept = [*self.state["constraints"], one]
        self.edit(who, "constraints", {"constraints": kept, "label": "One more"}, after, {("constraints",)}, seen)

    @rule(who=PEOPLE, what=st.sampled_from(["ties", "bodies"]), n=NUMBERS, seen=st.booleans())
    def tied(self, who, what, n, seen):
        value = {"ties": {f"t{n}": {"track": n, "point": "P"}}} if what == "ties" else {f"b{n}": {"name": f"b{n}"}}

        def after(state):
            state[what] = value if what == "ties" else {**state[what], **value}

        self.edit(who, what, {what: value, "label": "Tie"}, after, EVERYTHING, seen)

    @rule(who=PEOPLE, chosen=st.sets(NUMBERS, min_size=1), to=st.sampled_from([ACTIVE, CHECK, EXCLUDED]),
          seen=st.booleans())  # fmt: skip
    def states(self, who, chosen, to, seen):
        ids = sorted(self.tracks[k] for k in chosen)

        def after(state):
            state["states"].update(dict.fromkeys(ids, to))

        self.edit(who, "states", {"states": {to: ids}}, after, {("track", i) for i in ids}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def turned(self, who, n, seen):
        """A track is deleted, or brought back."""
        track = self.tracks[n]
        gone = track in self.state["there"]
        payload = {"remove" if gone else "bring": [track], "label": "Turn"}
        self.edit(who, "tracks", payload, lambda s: s["there"].symmetric_difference_update({track}),
                  {("track", track)}, seen)  # fmt: skip

    @rule(who=PEOPLE, k=st.integers(0, 1), seen=st.booleans())
    def mask(self, who, k, seen):
        number = self.masks[k]
        on = self.state["masks"][number]
        payload = {"off" if on else "lit": [number], "label": "Switch"}
        self.edit(who, "masks", payload, lambda s: s["masks"].update({number: not on}), {("mask", number)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def lens(self, who, n, seen):
        payload = {"values": {"crop": n + 1}, "label": "Crop"}
        self.edit(who, "lens", payload, lambda s: s.update(lens={"crop": n + 1}), {("lens",)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def copied(self, who, n, seen):
        payload = {"values": {"replaced": f"r{n}"}, "label": "Copy"}
        self.edit(who, "copy", payload, lambda s: s.update(replaced=f"r{n}"), {("copy",)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def pinned(self, who, n, seen):
        if self.attempts:
            number = self.attempts[n % len(self.attempts)]
            self.edit(who, "pin", {"attempt": number}, lambda s: s.update(pinned=number), {("pin",)}, seen)

    @rule(who=PEOPLE, n=NUMBERS, seen=st.booleans())
    def renamed(self, who, n, seen):
        if self.attempts:
            number = self.attempts[n % len(self.attempts)]
            self.edit(who, "attempt", {"attempt": number, "name": f"n{n}"},
                      lambda s: s["renamed"].update({number: f"n{n}"}), {("attempt", number)}, seen)  # fmt: skip

    @rule(who=PEOPLE, keep=st.booleans(), n=NUMBERS)
    def decided(self, who, keep, n):
        """A trial is kept with what it changes, or dropped."""
        if self.trial is None:
            return
        trial, attempt = self.trial
        if keep and self.state["decided"] != "kept":
            track = self.tracks[n]
            steps = [("states", {"states": {EXCLUDED: [track]}})]

            def after(state):
                state["states"][track], state["decided"], state["pinned"] = EXCLUDED, "kept", attempt
                state["kept_away"] = False

            self.edit(who, "keep", {"trial": trial, "attempt": attempt, "steps": steps}, after, EVERYTHING, False)
        elif not keep and self.state["decided"] == "" and self.state["pinned"] != attempt:
            self.edit(who, "drop", {"trial": trial}, lambda s: s.update(decided="dropped", kept_away=True), EVERYTHING,
                      False)  # fmt: skip

    @rule(who=PEOPLE, back=st.booleans())
    def step(self, who, back):
        pile = self.done if back else self.undone
        try:
            with self.people[who].begin():
                (edits.undo if back else edits.redo)(self.people[who], self.shot)
        except KeelError:
            assert self.deleted or not pile
            return
        assert pile and not self.deleted
        self.moved(self.walk(back))

    def walk(self, back):
        """Move one edit between the piles of the model, and its state with it."""
        one = (self.done if back else self.undone).pop()
        (self.undone if back else self.done).append(one)
        # A name given to an attempt is an edit like others: all of the state goes back.
        self.state = copy.deepcopy(one[1] if back else one[2])
        return one[3]

    @rule(who=PEOPLE, n=st.integers(0, 12))
    def gone_to(self, who, n):
        with session(self.database) as opened:
            rows = list(opened.scalars(select(Edit.id).where(Edit.shot_id == self.shot).order_by(Edit.id)))
        wanted = min(n, len(rows))
        try:
            with self.people[who].begin():
                edits.go_to(self.people[who], self.shot, rows[wanted - 1] if wanted else 0)
        except KeelError:
            assert self.deleted or wanted == len(self.done)
            return
        assert not self.deleted and wanted != len(self.done)
        touched = set()
        while len(self.done) != wanted:
            touched |= self.walk(len(self.done) > wanted)
        self.moved(touched)

    @rule(who=PEOPLE, n=NUMBERS)
    def gone_back(self, who, n):
        """All as it was when an attempt was pinned first, as one edit."""
        if not self.attempts:
            return
        number = self.attempts[n % len(self.attempts)]
        pins = [k for k, one in enumerate(self.done) if one[0] == "pin" and one[4] == {"attempt": number}]
        since = [one for one in self.done[pins[0] + 1 :] if one[0] != "attempt"] if pins else []
        try:
            with self.people[who].begin():
                edits.go_back(self.people[who], self.shot, number)
        except KeelError:
            assert self.deleted or not since
            return
        assert since and not self.deleted
        before = copy.deepcopy(self.state)
        self.state = {**copy.deepcopy(self.done[pins[0]][2]), "renamed": copy.deepcopy(self.state["renamed"])}
        self.undone.clear()
        self.done.append(("back", before, copy.deepcopy(self.state), EVERYTHING, None))
        self.moved(EVERYTHING)

    @rule(who=PEOPLE)
    def delete_or_restore(self, who):
        with self.people[who].begin():
            shot = hold_shot(self.people[who], self.shot)
            assert bool(shot.deleted) == self.deleted
            (keeping.restore if self.deleted else keeping.delete_row)(self.people[who], shot)
        self.deleted = not self.deleted
        self.moved(EVERYTHING)

    # What jobs do.

    def ended(self, work):
        """A job takes effect and ends."""
        where = from_environment()
        with session(self.database) as opened:
            job = add_job(opened, "machine", self.shot).id
        claim = claim_next(where, MACHINE)
        assert claim.job == job
        with working(claim), effect(where, self.shot, Arguments()) as opened:
            work(opened)

    def solved(self, opened):
        shot = hold_shot(opened, self.shot)
        shot.attempts += 1
        row = Attempt(shot_id=shot.id, number=shot.attempts, recipe={}, figures={}, document="", errors="",
                      snapshot={"tracks_stamp": shot.tracks_stamp})  # fmt: skip
        opened.add(row)
        opened.flush()
        return row.id

    @rule()
    def solve(self):
        if self.deleted or len(self.attempts) > 3:
            return
        self.ended(lambda opened: self.attempts.append(self.solved(opened)))
        self.moved(EVERYTHING)

    @rule()
    def tried(self):
        if self.deleted or self.trial or not self.attempts:
            return

        def work(opened):
            attempt = self.solved(opened)
            trial = Trial(shot_id=self.shot, base_id=self.attempts[0], attempt_id=attempt,
                          remedy={"code": "x", "words": "Try it"})  # fmt: skip
            opened.add(trial)
            opened.flush()
            self.trial = trial.id, attempt

        self.ended(work)
        self.moved(EVERYTHING)

    @invariant()
    def they_agree(self):
        if not hasattr(self, "shot"):
            return
        with session(self.database) as opened:
            shot = opened.get(Shot, self.shot)
            rows = {row.id: row for row in opened.scalars(select(Track).where(Track.shot_id == shot.id))}
            masks = {row.id: row.on for row in opened.scalars(select(Mask).where(Mask.shot_id == shot.id))}
            named = {a: opened.get(Attempt, a).name for a in self.attempts}
            history = list(opened.scalars(select(Edit).where(Edit.shot_id == shot.id).order_by(Edit.id)))
            trial = opened.get(Trial, self.trial[0]) if self.trial else None
            found = {
                "datum": shot.datum, "note": shot.note, "constraints": shot.constraints, "ties": shot.ties,
                "bodies": shot.bodies, "replaced": shot.plate.replaced, "pinned": shot.pinned_id,
                "scene": {k: v for k, v in shot.scene.items() if v},
                "lens": {k: v for k, v in shot.lens.items() if v}, "masks": masks,
                "states": {i: row.state for i, row in rows.items()},
                "there": {i for i, row in rows.items() if not row.removed},
                "decided": trial.decided if trial else "",
                "kept_away": opened.get(Attempt, self.trial[1]).removed if self.trial else False,
                "renamed": {a: name for a, name in named.items() if name},
            }  # fmt: skip
            expected = {**self.state, "renamed": {a: n for a, n in self.state["renamed"].items() if n},
                        "scene": {k: {p: v for p, v in things.items() if v} for k, things in self.state["scene"].items()
                                  if things}}  # fmt: skip
            assert found == expected
            assert [one.kind for one in history if not one.undone] == [one[0] for one in self.done]
            assert [one.kind for one in history if one.undone] == [one[0] for one in self.undone][::-1]
            assert shot.revision == self.revision and shot.attempts == len(self.attempts) + bool(self.trial)


def test_what_is_answered_stands(store):
    machine = type("Machine", (Shots,), {"database": store})
    run_state_machine_as_test(
        machine,
        settings=settings(
            max_examples=EXAMPLES, stateful_step_count=40, deadline=None, database=None, print_blob=False,
            derandomize=EXAMPLES < 100, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        ),
    )  # fmt: skip


def test_two_edits_on_one_revision_are_not_both_taken(store):
    """Both sessions loaded the shot before either changed it; the second edit must see the first."""
    with session(store) as opened:
        plate = Plate(source="nowhere", label="x", first=1, last=2, width=8, height=8)
        shot = Shot(production=Production(name="Two at once"), name="TWO_010", plate=plate)
        opened.add(shot)
        opened.flush()
        number = shot.id
    first, second = maker(store)(), maker(store)()
    loaded = []
    for one in (first, second):
        with one.begin():
            loaded.append(one.get(Shot, number))
            assert loaded[-1].constraints == [] and loaded[-1].revision == 0
    with first.begin():
        edits.apply(first, number, "constraints", {"constraints": [known(1)], "label": "One"}, 0)
    with pytest.raises(StaleEdit), second.begin():
        edits.apply(second, number, "constraints", {"constraints": [known(2)], "label": "Two"}, 0)
    with session(store) as opened:
        assert (opened.get(Shot, number).constraints, opened.get(Shot, number).revision) == ([known(1)], 1)
    first.close()
    second.close()
