"""Shared pieces: a small simulated plate with its truth, and the whole application on servers of its own."""

import os
import pickle
import shutil
import time
from pathlib import Path

import numpy as np
import pytest
import sqlalchemy as sa
from desk import beside, new_page, solved_in, taken_in
from plates import rendered, simulated

from amberkeel.core.follow import DetectSettings, FollowSettings, follow_plate
from amberkeel.core.plate.plate import matte_reader, open_plate
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.render import surface_points, truth
from amberkeel.core.sim.sail_loft import edges
from amberkeel.core.solve.solve import solve_tracks

LONGEST = (
    "killed_jobs", "ties_pages", "casebook_pages", "hard_shots", "shared_lens", "house", "bad_requests", "masks_pages",
    "world_pages",
    "diagnosis", "repairs", "motions", "faults", "lens_pages", "service", "handoff_pages", "refinements",
    "lens_evidence", "shed_doors", "command_line", "lens_pictures", "keeping", "masks", "lens_shared", "subject_pages",
    "tracks_pages", "migrations", "store_machine", "journey", "evidence", "histories", "door",
    "foreign", "nothing_lost", "solve",
    "solve_parts", "hard_plates", "news", "subjects",
)  # fmt: skip
"""Files of tests that take longest, in this order: begun first, so that no process is left with one at the end."""


def pytest_collection_modifyitems(items):
    order = {f"test_{name}": k for k, name in enumerate(LONGEST)}
    items.sort(key=lambda item: order.get(item.path.stem, len(order)))


FOLLOW = FollowSettings(DetectSettings(count=260), half=6)


@pytest.fixture(scope="session")
def shot():
    """SKL_010's beginning at a small size."""
    return simulated("slipway")


@pytest.fixture(scope="session")
def once(tmp_path_factory):
    """Return a function that makes a thing once for all processes of this run, and reads it in the others."""
    base = tmp_path_factory.getbasetemp()
    home = base.parent if os.environ.get("PYTEST_XDIST_WORKER") else base

    def made(name, make):
        done, folder = home / f"once-{name}.pickle", home / f"once-{name}"
        try:
            folder.mkdir()
        except FileExistsError:
            while not done.exists():
                assert folder.exists(), f"{name} could not be made in another process"
                time.sleep(0.2)
            return pickle.loads(done.read_bytes())
        try:
            thing = make(folder)
        except BaseException:
            shutil.rmtree(folder)
            raise
        part = done.with_suffix(".part")
        part.write_bytes(pickle.dumps(thing))
        part.rename(done)
        return thing

    return made


@pytest.fixture(scope="session")
def plate_folder(once) -> Path:
    """The small plate and its mattes as files: plate/ and mattes/."""
    return rendered(once, "slipway")


@pytest.fixture(scope="session")
def plate(plate_folder):
    """The small plate, opened."""
    return open_plate(plate_folder / "plate")


@pytest.fixture(scope="session")
def tracks(plate, once):
    """Features followed with nothing masked."""
    return once("tracks", lambda _: follow_plate(plate, FOLLOW))


@pytest.fixture(scope="session")
def masked_tracks(plate, plate_folder, once):
    """Features followed off the yard hands."""
    return once("masked", lambda _: follow_plate(plate, FOLLOW, matte_reader(plate_folder / "mattes", plate)))


@pytest.fixture(scope="session")
def solution(tracks, plate, once):
    """The camera solved with nothing masked and nothing known."""
    return once("solution", lambda _: solve_tracks(tracks, plate.frames, plate.width, plate.height))


@pytest.fixture(scope="session")
def true_path(shot):
    """The simulated camera."""
    return truth(shot)


@pytest.fixture(scope="session")
def true_points(shot):
    """Points on the set, and where they can be seen."""
    return surface_points(shot, 200, every=10)


@pytest.fixture(scope="session")
def service(plate_folder, tmp_path_factory):
    """PostgreSQL, Redis, a worker and the web server, with the small plate under a plate root."""
    from amberkeel.services import Local, open_to_postgres
    from amberkeel.store.migrate import upgrade

    folder = tmp_path_factory.mktemp("service")
    root = folder / "plates"
    shutil.copytree(plate_folder / "plate", root / "SKL_010")
    open_to_postgres(folder)
    local = Local(folder / "data")
    try:
        local.start([root])
        upgrade()
        local.start_workers(("all",))
        local.address = local.start_web(processes=1)
        yield local
    finally:
        local.stop()


@pytest.fixture(scope="session")
def database(service):
    """The running application's database address."""
    return service.environment["AMBERKEEL_DATABASE"]


@pytest.fixture(scope="module")
def store(service, request):
    """The address of a database that holds this file's rows alone: no worker looks at it, no page shows it.

    The environment names it meanwhile.
    """
    from amberkeel.store.models import Base

    with beside(service, request.module.__name__.rpartition(".")[2]) as address:
        engine = sa.create_engine(address)
        Base.metadata.create_all(engine)
        engine.dispose()
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("AMBERKEEL_DATABASE", address)
            yield address


@pytest.fixture(scope="module")
def solved_shot(service, database, plate_folder, plate, tracks, solution):
    """A shot with proxies, tracks and an attempt."""
    from amberkeel.store.media import Media

    media = Media(service.environment["AMBERKEEL_MEDIA"])
    return solved_in(database, media, plate_folder, plate, tracks, solution, "Modules")


@pytest.fixture(scope="session")
def loft():
    """SKL_020's beginning at a small size."""
    return simulated("loft")


@pytest.fixture(scope="session")
def loft_lines(loft):
    """Lines drawn on its first frame, by name, with hardly any noise."""
    rows = drawn_lines(loft, edges(), 1001, noise_px=0.1)
    return {f"{row['axis'].upper()}{k}": row for k, row in enumerate(rows)}


@pytest.fixture(scope="module")
def loft_shot(service, database, once):
    """It as a shot of the production, taken in and followed."""
    return taken_in(database, rendered(once, "loft"), "LOFT_010 Beams")


@pytest.fixture(scope="module")
def client(service):
    """The application's pages asked for directly, without the pages' tokens."""
    from amberkeel.settings import from_environment
    from amberkeel.web import create_app

    app = create_app(from_environment())
    app.config["WTF_CSRF_ENABLED"] = False
    return app.test_client()


@pytest.fixture(scope="session")
def browser():
    """Headless Chromium."""
    from playwright.sync_api import expect, sync_playwright

    # A page waits for jobs on whatever machine this is.
    expect.set_options(timeout=60_000)
    flags = (
        "--headless --no-sandbox --disable-quic --disable-background-networking --disable-component-update "
        "--disable-sync --no-first-run --use-angle=swiftshader --enable-unsafe-swiftshader "
        "--disable-gpu-compositing --disable-gpu-rasterization --disable-accelerated-2d-canvas"
    ).split()
    with sync_playwright() as playwright:
        opened = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        yield opened
        opened.close()


@pytest.fixture(scope="module")
def solved_page(browser, service, solved_shot):
    """The desk of the solved shot, for trying its modules on."""
    opened = new_page(browser)
    opened.goto(f"{service.address}/shots/{solved_shot}/solve")
    opened.wait_for_selector("body[data-ready]")
    yield opened
    opened.close()


@pytest.fixture
def rng():
    """A random generator with a fixed seed."""
    return np.random.default_rng(4)
