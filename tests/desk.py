"""The desk as tests use it: taking a shot in, posting to it, opening its page, and finding a plate pixel on the
screen.
"""

import time
from contextlib import contextmanager
from dataclasses import replace

import numpy as np
import sqlalchemy as sa

FORGET = "if (!sessionStorage.getItem('test')) { localStorage.clear(); sessionStorage.setItem('test', '1'); }"
"""Run before a page's own scripts: what other pages remembered is forgotten, what this one remembers is kept."""


def new_production(opened, name):
    """A production of that name, numbered on where another file of tests made one: they share a service."""
    from sqlalchemy import func, select

    from amberkeel.store.models import Production

    before = opened.scalar(select(func.count()).where(Production.name.startswith(name)))
    return Production(name=f"{name} {before + 1}" if before else name)


def taken_in(database, folder, name, count=160):
    """Take in the plate of a rendered folder and follow it, as the jobs do; returns the shot's number."""
    from amberkeel.core.plate.plate import open_plate
    from amberkeel.jobs.kinds import work
    from amberkeel.settings import from_environment
    from amberkeel.store.models import Plate, Shot
    from amberkeel.store.session import session

    pictures = open_plate(folder / "plate")
    with session(database) as opened:
        plate = Plate(
            source=str(folder / "plate" / "skl.####.png"),
            label="skl.####.png",
            first=int(pictures.frames[0]),
            last=int(pictures.frames[-1]),
            width=pictures.width,
            height=pictures.height,
        )
        row = Shot(production=new_production(opened, name.split("_")[0].title()), plate=plate, name=name)
        opened.add(row)
        opened.flush()
        number = row.id
    work("ingest", from_environment(), number, {}, lambda *_: None)
    work("follow", from_environment(), number, {"count": count}, lambda *_: None)
    return number


def one(database, query):
    """Return the first row that a query gives, as it is in the database now."""
    from amberkeel.store.session import session

    with session(database) as opened:
        return opened.scalar(query)


def poster(client, shot_id):
    """Return a function that posts JSON to a shot and returns the answer, held to its status."""

    def post(path, body=None, status=200):
        answer = client.post(f"/shots/{shot_id}/{path}", json=body or {})
        assert answer.status_code == status, answer.text
        return answer.json

    return post


def module(page, name, body, argument=None):
    """Run JavaScript with a desk module as `m` and an argument as `a`."""
    return page.evaluate(f"async (a) => {{ const m = await import('/static/desk/{name}.js'); {body} }}", argument)


def new_page(browser):
    """A page of 1280x800 among those of one person, whose browser keeps what it has loaded."""
    people = browser.contexts or [browser.new_context(viewport={"width": 1280, "height": 800})]
    page = people[0].new_page()
    page.add_init_script(FORGET)
    page.set_default_timeout(60_000)
    return page


@contextmanager
def desk_page(browser, service, shot_id, stage):
    """A shot's page at a stage; no script may fail on it."""
    page = new_page(browser)
    troubles = []
    page.on("pageerror", lambda e: troubles.append(str(e)))
    page.goto(f"{service.address}/shots/{shot_id}/{stage}")
    page.wait_for_selector("body[data-ready]")
    yield page
    assert not troubles
    page.close()


def on_screen(page, size, x, y):
    """Where a plate pixel of a picture of `size` lies on the page."""
    box = page.locator("#plate").bounding_box()
    k = min(box["width"] / size[0], box["height"] / size[1]) * 0.985
    return box["x"] + box["width"] / 2 + (x - size[0] / 2) * k, box["y"] + box["height"] / 2 + (y - size[1] / 2) * k


def until(check, seconds=120.0, told=lambda: "waited too long"):
    """Wait until something holds; returns what it is. Where it does not come, `told` says how things are."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = check()
        if found:
            return found
        time.sleep(0.05)
    raise AssertionError(told())


def settled(locator):
    """Wait until a part of a page is drawn and changes no more; returns its picture."""
    pictures = [b"", locator.screenshot()]

    def same():
        pictures[:] = pictures[1], locator.screenshot()
        return pictures[0] == pictures[1]

    until(same)
    return pictures[1]


def wait_for(database, job_id, states, seconds=90):
    """Wait until a job is in one of some states; return it."""
    from amberkeel.store.models import Job
    from amberkeel.store.session import session

    def job():
        with session(database) as opened:
            return opened.get(Job, job_id)

    def told():
        now = job()
        return f"job is {now.state}: {now.doing} {now.error}"

    return until(lambda: now if (now := job()).state in states else None, seconds, told)


def pull(page, a, b):
    """Drag from one plate pixel to another, on a page whose `at` finds them."""
    page.mouse.move(*page.at(*a))
    page.mouse.down()
    page.mouse.move(*page.at(*b), steps=4)
    page.mouse.up()


@contextmanager
def beside(service, name):
    """Give the address of an empty database beside the application's, for what would be in others' way there."""
    address = sa.make_url(service.environment["AMBERKEEL_DATABASE"])
    server = sa.create_engine(address, isolation_level="AUTOCOMMIT")
    with server.connect() as link:
        link.execute(sa.text(f"drop database if exists {name} with (force)"))
        link.execute(sa.text(f"create database {name}"))
    yield address.set(database=name).render_as_string(hide_password=False)
    with server.connect() as link:
        link.execute(sa.text(f"drop database {name} with (force)"))
    server.dispose()


def renumbered(solution, ids):
    """Return a solution of the same tracks under other numbers, in the same order."""
    new = dict(zip(solution.tracks.ids.tolist(), ids.tolist()))
    assert len(new) == len(ids) and solution.points.ids.tolist() == solution.tracks.ids.tolist()
    return replace(
        solution, tracks=replace(solution.tracks, ids=ids), points=replace(solution.points, ids=ids),
        reasons={new[track]: reason for track, reason in solution.reasons.items()},
    )  # fmt: skip


def solved_in(database, media, plate_folder, plate, tracks, solution, production):
    """A shot with proxies, tracks and an attempt, made through the store as the jobs make it; returns its number."""
    from amberkeel.core.pictures.write import encode_jpeg
    from amberkeel.store import edits
    from amberkeel.store.models import Plate, Shot
    from amberkeel.store.session import session
    from amberkeel.store.solve import stamps_of, store_attempt
    from amberkeel.store.tracks import add_run, live_tracks

    with session(database) as opened:
        row = Plate(
            source=str(plate_folder / "plate"), label="skl.####.png", first=1001, last=1040, width=640, height=360
        )
        row.proxies = [media.put(encode_jpeg(plate.read(int(f)))) for f in plate.frames]
        shot = Shot(production=new_production(opened, production), name="SKL_010", plate=row)
        opened.add(shot)
        opened.flush()
        new = add_run(opened, shot, tracks)
        edits.apply(opened, shot.id, "tracks", {"remove": [], "bring": new, "label": "Follow features"})
        rows = live_tracks(opened, shot)
        solved = renumbered(solution, np.array([row.id for row in rows]))
        attempt = store_attempt(opened, media, shot, solved, stamps_of(opened, shot))
        edits.apply(opened, shot.id, "pin", {"attempt": attempt.id})
        return shot.id
