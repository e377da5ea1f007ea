"""The door: every view that takes a post, asked with values of every kind, made from what it says it takes. None is a
failure of the server, and what is refused has changed nothing: no row, and no file.
"""

import ast
import inspect
import json
import os
import re
from typing import Any, Literal, get_args, get_origin

import pytest
import sqlalchemy as sa
from desk import solved_in
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from amberkeel.settings import from_environment
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Base, Job, Production, Track
from amberkeel.store.session import maker, session
from amberkeel.web.sent import Body

EXAMPLES = int(os.environ.get("KEEL_EXAMPLES", "4"))
"""How often every view is asked; a hundred or more look at new ones each time."""

UNWATCHED = ("pulse",)

NUMBERS = st.sampled_from([0, 0.5, 1, 2.0, -1, 1e-300, 1e30, "3", "1001", "nan", "0,5", "²", " 7 ", "9" * 400, 10**400])
TEXTS = st.sampled_from(
    ["", "x", "SKL_010", "\0", "\ud800", "a\nb", "../../etc", "名前 \u202e", "x" * 5000, "{0:9999}"]
)
KEYS = st.sampled_from(["name", "kind", "frame", "x", "y", "points", "tracks", "size", "label", "1", "p1", "\0"])
ANY: st.SearchStrategy[Any] = st.recursive(
    st.one_of(st.none(), st.booleans(), NUMBERS, TEXTS),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(KEYS, inner, max_size=4),
    max_leaves=6,
)


LEFT_OUT = object()


class Door:
    """The pages of a solved shot in a database of its own, and what they may be asked."""

    def __init__(self, database: str, app, shot: int):
        self.database, self.app, self.client, self.shot = database, app, app.test_client(), shot
        with session(database) as opened:
            tracks = opened.scalars(sa.select(Track.id).where(Track.shot_id == shot).limit(3)).all()
            attempt = opened.scalar(sa.select(Attempt.id))
            self.production = opened.scalar(sa.select(Production.id))
        self.wholes = st.sampled_from([*tracks, attempt, shot, 1, 2, 1001, 1010, 1020, 0, -1, 2**31, 2**63])
        self.views = {rule.rule: app.view_functions[rule.endpoint] for rule in app.url_map.iter_rules()
                      if "POST" in rule.methods}  # fmt: skip
        tables = [name for name in Base.metadata.tables if name not in UNWATCHED]
        self._marks = sa.text(" union all ".join(
            f"select '{name}', count(*), coalesce(sum(xmin::text::bigint), 0) from {name}" for name in tables
        ))  # fmt: skip

    def state(self):
        """What tells whether any row or file has changed: each row's last transaction, and the files' names."""
        with maker(self.database)() as opened:
            rows = opened.execute(self._marks).all()
        folder = from_environment().media
        return rows, sorted(str(path) for path in folder.rglob("*") if path.is_file())

    def brought_back(self):
        """Take back what an accepted request may have done to the shot as a whole."""
        with session(self.database) as opened:
            shot = hold_shot(opened, self.shot)
            production = opened.get(Production, self.production)
            shot.deleted = production.deleted = None
            shot.production_id = self.production
            job = Job(kind="look", shot_id=self.shot, state="failed", arguments={})
            opened.add(job)
            opened.flush()
            return job.id

    def address(self, rule: str, job: int, data) -> str:
        """The address of a view, of this shot's rows or of none."""
        own = {"/shots/": self.shot, "/productions/": self.production, "/jobs/": job}
        first = next((number for start, number in own.items() if rule.startswith(start)), 1)

        def part(found):
            if found[1] == "number":
                return str(first)
            return str(data.draw(self.wholes.filter(lambda n: n >= 0))) if "int:" in found[0] else "p1"

        return re.sub(r"<(?:int:|path:)?(\w+)>", part, rule)


def models_of(view) -> list[type[Body]]:
    """The models of which a view reads one: what it hands to `sent`, or else all of its module."""
    here = vars(inspect.getmodule(view))
    named = [here.get(name) for name in re.findall(r"\bsent\((\w+)\)", inspect.getsource(view))]
    known = [m for m in named or here.values() if inspect.isclass(m) and issubclass(m, Body)]
    return known or [Body]


def words_of(view) -> list[str]:
    """Texts that stand in a view's module: the names of what it can be asked for are among them."""
    tree = ast.parse(inspect.getsource(inspect.getmodule(view)))
    found = [node.value for node in ast.walk(tree) if isinstance(node, ast.Constant)]
    return sorted({one for one in found if isinstance(one, str) and 0 < len(one) < 24}) or ["x"]


def values_of(annotation, wholes, words) -> st.SearchStrategy:
    """Values of the kind that a field is, with others among what lies in them."""
    inner = get_args(annotation)
    origin = get_origin(annotation) or annotation
    if origin is Literal:
        return st.sampled_from(inner)
    if annotation is bool:
        return st.sampled_from([True, False, "yes", "false"])
    if annotation is int:
        return wholes
    if annotation is float:
        return NUMBERS | st.floats(-2000, 2000, allow_nan=False)
    if annotation is str:
        return words | TEXTS
    if origin in (list, set, frozenset):
        return st.lists(values_of(inner[0], wholes, words) if inner else ANY, max_size=5)
    if origin is tuple:
        kinds = [values_of(kind, wholes, words) for kind in inner if kind is not Ellipsis]
        return st.tuples(*kinds).map(list) if Ellipsis not in inner else st.lists(kinds[0], max_size=5)
    if origin is dict:
        return st.dictionaries(words | KEYS, values_of(inner[1], wholes, words) if inner else ANY, max_size=4)
    if inspect.isclass(origin) and issubclass(origin, BaseModel):
        return body_of(origin, wholes, words)
    kinds = [values_of(kind, wholes, words) for kind in inner if kind is not type(None)]
    return st.one_of(*kinds) if kinds else ANY


def body_of(model: type[BaseModel], wholes, words) -> st.SearchStrategy[dict]:
    """Bodies of a request: fields are left out, of their kind, or of another one."""
    fields = {}
    for name, field in model.model_fields.items():
        right = values_of(field.annotation, wholes, words)
        fields[field.alias or name] = st.one_of(*[right] * 6, ANY, st.just(LEFT_OUT))
    return st.fixed_dictionaries(fields).map(lambda body: {k: v for k, v in body.items() if v is not LEFT_OUT})


@pytest.fixture(scope="module")
def door(store, service, plate_folder, plate, tracks, solution, tmp_path_factory):
    """The pages' doors to a solved shot, with no worker behind them."""
    from amberkeel.web import create_app

    folder = tmp_path_factory.mktemp("door")
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("AMBERKEEL_MEDIA", str(folder / "media"))
        patch.setenv("AMBERKEEL_BROKER", "memory://")
        shot = solved_in(store, Media(folder / "media"), plate_folder, plate, tracks, solution, "Door")
        app = create_app(from_environment())
        app.config["WTF_CSRF_ENABLED"] = False
        yield Door(store, app, shot)


def test_whatever_is_asked_nothing_breaks_and_what_is_refused_changes_nothing(door):
    known = {rule: (models_of(view), words_of(view)) for rule, view in sorted(door.views.items())}
    assert len(known) > 90 and sum(models != [Body] for models, _ in known.values()) > 60
    answers: dict[int | str, int] = {}
    wrong: list[tuple] = []

    @settings(
        max_examples=EXAMPLES, deadline=None, database=None, derandomize=EXAMPLES < 100, phases=[Phase.generate],
        suppress_health_check=list(HealthCheck),
    )  # fmt: skip
    @given(st.data())
    def asked(data):
        for rule, (models, words) in known.items():
            job = door.brought_back()
            strategy = st.one_of(*(body_of(model, door.wholes, st.sampled_from(words)) for model in models))
            body = data.draw(st.one_of(*[strategy] * 5, ANY))
            address = door.address(rule, job, data)
            before = door.state()
            answer = door.client.post(address, data=json.dumps(body), content_type="application/json")
            answers[answer.status_code] = answers.get(answer.status_code, 0) + 1
            if answer.status_code >= 500:
                wrong.append((rule, body, answer.text[-300:]))
                continue
            after = door.state()
            if answer.status_code < 400:
                answers["changed"] = answers.get("changed", 0) + (after != before)
            else:
                changed = [old[0] for old, new in zip(before[0], after[0]) if old != new]
                changed += sorted(set(before[1]) ^ set(after[1]))
                if changed:
                    wrong.append((rule, body, answer.text[-200:], changed[:3]))

    asked()
    assert not wrong, "\n".join(map(str, wrong[:40])) + f"\n{len(wrong)} in all"
    assert answers["changed"] > 5 * EXAMPLES, "hardly anything is accepted: what is asked is not what is taken"
