"""What stands in a scene: solids, rays, things drawn by clicks, uneven ground, meshes brought to points, projection and
slip, each against a made scene that is known.
"""

import json

import numpy as np
import pytest
from simulated import Pictures

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.world import solids
from amberkeel.core.world.align import by_pairs, to_surface
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.drafts import draft
from amberkeel.core.world.mesh_files import WRITTEN, read_mesh, write_mesh
from amberkeel.core.world.projection import BLEND, MEDIAN, ONE, coloured
from amberkeel.core.world.rays import cast
from amberkeel.core.world.relief import relief
from amberkeel.core.world.seen import points_seen, surface_seen, texture_side
from amberkeel.core.world.slip import Spot, measure_slip, settled
from amberkeel.core.world.slip_report import HOLDS, SLIPS, finding, places, report
from amberkeel.core.world.solids import Solid
from amberkeel.core.world.standing import MOST, Probe, Proxy, carried, read_standing, solid_of
from amberkeel.core.world.textures import plate_from, seen_again, texture_of
from amberkeel.core.world.under import CORNER, EDGE, GROUND, POINT, SURFACE, Sight, snapped_under, surface_under

SIZE = (320, 180)
UPRIGHT = np.array([[1.0, 0, 0], [0, -1.0, 0], [0, 0, -1.0]])
"""world_from_camera of one that looks along -Z, level."""


def walking(frames=12, k1=-0.04, step=0.06):
    """A camera that walks ahead and aside at eye height over the ground Y = 0."""
    t = np.arange(frames, dtype=float)
    positions = np.stack([0.6 * step * t, 1.6 + 0.01 * np.sin(t), -step * t], 1)
    turns = np.array([UPRIGHT @ rotation_exp(np.array([-0.12, 0.002 * k, 0.001 * k])) for k in t])
    return CameraPath(np.arange(1, frames + 1), positions, turns, Lens.centred(*SIZE, 260.0, k1))


@pytest.fixture
def path():
    return walking()


def sight(path, row=0, **more):
    return Sight(
        path, row, more.get("solids", {}), more.get("ids", np.zeros(0, int)), more.get("xyz", np.zeros((0, 3)))
    )


def pixel(path, xyz, row=0):
    return tuple(path.project(np.array([xyz], float), row)[0])


def turn(a, b):
    return a[..., 0] * b[..., 1] - a[..., 1] * b[..., 0]


def volume(solid):
    a, b, c = (solid.triangles[:, k] for k in range(3))
    return float(np.einsum("fi,fi->", a, np.cross(b, c)) / 6.0)


def test_solids_are_whole_and_their_textures_do_not_overlap():
    for made, wanted in (
        (solids.box(1.0, 2.0, 3.0), 6.0), (solids.cylinder(1.0, 2.0, 1.0), np.pi / 2),
        (solids.cone(1.0, 3.0, 1.0), np.pi / 4),
        (solids.spindle(1.0), 0.03375), (solids.person(1.8), 0.103),
    ):  # fmt: skip
        assert volume(made) == pytest.approx(wanted, rel=0.02)
        assert made.uv.min() >= 0.0 and made.uv.max() <= 1.0 and made.lines.max() < len(made.vertices)
    assert solids.person(1.75).vertices[:, 1].max() == pytest.approx(1.75) and len(solids.lattice(1, 1, 1).faces) == 0
    for made in (solids.box(1, 2, 3), solids.cylinder(1, 2, 1), solids.wall(2, 1), solids.floor(2, 1)):
        uv = made.uv[made.faces]
        area = 0.5 * np.abs(turn(uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0])).sum()
        grid = np.zeros((200, 200), int)
        for a, b, c in uv * 200:
            x, y = np.meshgrid(np.arange(200) + 0.5, np.arange(200) + 0.5)
            side = [turn(q - p, np.stack([x - p[0], y - p[1]], -1)) for p, q in ((a, b), (b, c), (c, a))]
            grid += np.all([s > 1e-6 for s in side], 0) | np.all([s < -1e-6 for s in side], 0)
        assert grid.max() == 1 and grid.mean() == pytest.approx(area, abs=0.04)
    with pytest.raises(WorldError, match="no triangles"):
        solids.of_mesh(np.zeros((3, 3)), np.zeros((0, 3), int))


def test_a_mesh_shows_its_creases_or_all_its_edges(rng):
    crate = solids.box(1.0, 0.6, 0.5)
    # Its faces are cut into squares that are flat; corners of neighbouring faces are not shared.
    shown = solids.of_mesh(crate.vertices, crate.faces, True).lines
    low, high = crate.vertices.min(0), crate.vertices.max(0)
    on_rim = ((np.abs(crate.vertices - low) < 1e-9) | (np.abs(crate.vertices - high) < 1e-9)).sum(1) >= 2
    assert len(shown) and on_rim[shown].all()
    hilly = solids.floor(4.0, 4.0)
    lifted = hilly.vertices + [0, 1, 0] * rng.normal(0, 0.3, (len(hilly.vertices), 1))
    assert len(solids.of_mesh(lifted, hilly.faces, True).lines) > len(hilly.faces)


def test_rays_meet_the_nearest_triangle():
    made = solids.box(2.0, 2.0, 2.0).moved(np.eye(3), np.array([0.0, -1.0, -5.0]))
    directions = np.array([[0.0, 0, -1], [0.3, 0, -1], [0.1, 0.1, 1]])
    hits = cast(np.zeros(3), directions, made.triangles)
    assert hits.along[0] == pytest.approx(4.0) and np.isinf(hits.along[1:]).all() and (hits.face[1:] == -1).all()


def test_things_are_drawn_click_by_click(path):
    here = sight(path)
    wall = draft("wall", [here] * 3, [pixel(path, p) for p in ([-1, 0, -6], [1.5, 0, -7], [1.5, 2.2, -7])], 0.0)
    assert wall.size[:2] == pytest.approx((np.hypot(2.5, 1.0), 2.2), abs=1e-4)
    front = solid_of(wall).triangles[0]
    assert np.cross(front[1] - front[0], front[2] - front[0]) @ (path.positions[0] - front[0]) > 0.0
    corners = [[-1, 0, -6], [1, 0, -6], [1, 0, -8], [1, 1.2, -8]]
    made = draft(
        "box", [here, here, sight(path, 5), here], [pixel(path, p, r) for p, r in zip(corners, (0, 0, 5, 0))], 0.0
    )
    assert made.size == pytest.approx((2.0, 1.2, 2.0), abs=1e-4) and made.position == pytest.approx(
        (0, 0, -7), abs=1e-4
    )
    can = draft("cylinder", [here] * 3, [pixel(path, p) for p in ([0, 0, -5], [0.4, 0, -5], [0, 1, -5])], 0.0)
    assert can.size == pytest.approx((0.8, 1.0, 0.8), abs=1e-3)
    for kind, clicks, words in (
        ("box", [pixel(path, [0, 0, -5])] * 2, "no size"), ("wall", [(160.0, 2.0)] * 2, "on its edge"),
        ("ball", [(1.0, 1.0)] * 2, "not drawn"),
    ):  # fmt: skip
        with pytest.raises(WorldError, match=words):
            draft(kind, [here] * 2, clicks, 0.0)


def test_corners_points_and_edges_are_snapped_to_and_walls_meet(path):
    block = solid_of(Proxy(kind="box", position=(0, 0, -7), size=(2, 1.2, 2)))
    here = sight(path, solids={"p1": block}, ids=np.array([7]), xyz=np.array([[2.0, 0.0, -6.0]]))
    near = np.array([2.0, 1.0])
    found = snapped_under(here, np.array(pixel(path, [1, 1.2, -6])) + near, 6.0)
    assert found.on == CORNER and found.id == "p1" and found.xyz == pytest.approx([1, 1.2, -6])
    assert snapped_under(here, np.array(pixel(path, [2.0, 0, -6])) + near, 6.0).id == 7
    edge = snapped_under(here, np.array(pixel(path, [0.37, 1.2, -6])) + near, 6.0)
    assert edge.on == EDGE and edge.xyz[1:] == pytest.approx([1.2, -6.0], abs=1e-6)
    on = surface_under(here, np.array(pixel(path, [0, 0.6, -6])))
    assert (
        on.on == SURFACE and on.normal == pytest.approx([0, 0, 1]) and on.xyz == pytest.approx([0, 0.6, -6], abs=1e-6)
    )
    assert surface_under(here, np.array(pixel(path, [3.0, 0, -5]))).on == GROUND and POINT == "point"
    wall = draft("wall", [here] * 2, [np.array(pixel(path, [1, 0, -6])) + near, pixel(path, [2.6, 0, -6])], 6.0)
    ends = solid_of(wall).vertices[:, 0]
    assert min(abs(ends.min() - 1.0), abs(ends.max() - 1.0)) < 1e-6
    with pytest.raises(WorldError, match="no surface"):
        surface_under(sight(path), np.array([160.0, 90.0]), ground=False)


def test_things_stay_on_the_picture_in_another_world():
    change = Datum(2.0, rotation_exp(np.array([0.2, 0.7, -0.1])), np.array([1.0, 2.0, 3.0]))
    before = Proxy(kind="box", position=(1, 0, -4), turn=(0, 30, 0), size=(1, 2, 3))
    after = read_standing(Proxy, {**carried(before.model_dump(mode="json"), change)})
    assert np.allclose(solid_of(after).vertices, change.apply(solid_of(before).vertices), atol=1e-6)
    figure = read_standing(Probe, {"kind": "person", "size": [0.4, 1.75, 0.4]})
    assert carried(figure.model_dump(mode="json"), change, False)["size"][1] == 1.75
    for kept in ({"kind": "sphere"}, {"kind": "box", "size": [0, 1, 1]}, {"kind": "box", "colour": "red"}):
        with pytest.raises(WorldError, match="cannot be"):
            read_standing(Proxy, kept)
    with pytest.raises(WorldError, match="not there"):
        solid_of(Proxy(kind="mesh", name="Rock"))
    assert MOST >= 20


def test_uneven_ground_is_meshed_and_what_sticks_out_is_named(rng):
    def height(x, z):
        return 0.3 * np.sin(0.8 * x) * np.cos(0.6 * z)

    flat = rng.uniform(-3, 3, (260, 2))
    xyz = np.column_stack([flat[:, 0], height(*flat.T), flat[:, 1]])
    noisy = xyz + rng.normal(0, 0.01, (260, 1)) * [0, 1, 0]
    noisy[40, 1] += 0.4
    made = relief(noisy, np.full(260, 0.01))
    assert made.sticks_out[40] and made.sticks_out.sum() <= 4 and made.rms < 1e-9
    clean, sigma = np.delete(noisy, 40, 0), np.full(259, 0.01)
    smooth = relief(clean, sigma, smooth=True)
    true = height(clean[smooth.rows, 0], clean[smooth.rows, 2])
    calm = np.sqrt(np.mean((smooth.solid.vertices[:, 1] - true) ** 2))
    assert calm < 0.9 * np.sqrt(np.mean((clean[smooth.rows, 1] - true) ** 2))
    assert smooth.rms == pytest.approx(0.01, rel=0.25)
    wide = relief(clean, sigma, extend=0.5)
    assert np.ptp(wide.solid.vertices[:, 0]) > np.ptp(clean[:, 0]) + 0.6
    short = relief(clean, sigma, longest=0.5).solid.triangles
    assert np.linalg.norm((short - np.roll(short, 1, axis=1))[..., [0, 2]], axis=2).max() <= 0.5
    normals = np.cross(short[:, 1] - short[:, 0], short[:, 2] - short[:, 0])
    assert (normals[:, 1] > 0).all()
    # As seen from the side: a wall of points is meshed along the view.
    turn = rotation_exp(np.array([np.pi / 2, 0, 0]))
    assert np.allclose(
        relief(clean @ turn.T, sigma, frame=turn).solid.vertices, relief(clean, sigma).solid.vertices @ turn.T
    )
    for points, words, more in (
        (clean[:2], "three points", {}), (np.arange(9.0).reshape(3, 3), "on a line", {}),
        (clean[:9], "No triangle", {"longest": 1e-3}),
    ):  # fmt: skip
        with pytest.raises(WorldError, match=words):
            relief(points, **more)


def test_meshes_come_from_files_and_are_brought_to_points(rng, tmp_path):
    there = solids.box(2.0, 1.5, 3.0).moved(np.eye(3), np.array([1.0, 0.0, -5.0]))
    for kind in WRITTEN:
        file = tmp_path / f"shed.{kind}"
        write_mesh(there, file)
        back = read_mesh(file.read_bytes(), kind, "cm")
        assert len(back.faces) == len(there.faces)
        assert np.allclose(back.vertices.min(0), 0.01 * there.vertices.min(0), atol=1e-6)
    up = read_mesh((tmp_path / "shed.ply").read_bytes(), "ply", "m", "z")
    assert np.allclose(up.vertices.max(0)[1], there.vertices.max(0)[2], atol=1e-5)
    for data, kind, words in (
        (b"nonsense", "ply", "no mesh that can be read"), (b"", "obj", "no "), (b"x", "exe", "no mesh that is read"),
        (b"v 0 0 0\nv 1 0 0\nv 0 1 0\n", "obj", "no "),
    ):  # fmt: skip
        with pytest.raises(WorldError, match=words):
            read_mesh(data, kind)
    with pytest.raises(WorldError, match="no mesh that is written"):
        write_mesh(there, tmp_path / "shed.abc")
    turn = Datum(1.05, rotation_exp(np.array([0.04, 0.06, -0.03])), np.array([0.1, -0.05, 0.1]))
    off = Solid(turn.back(there.vertices), there.faces, there.uv, there.lines)
    own = rng.integers(0, len(there.faces), 220)
    share = rng.dirichlet(np.ones(3), 220)
    points = np.einsum("nk,nki->ni", share, there.triangles[own]) + rng.normal(0, 0.003, (220, 3))
    points = np.concatenate([points, rng.uniform(-5, 5, (30, 3))])
    found = to_surface(off, points, scaled=True)
    assert np.abs(found.change.apply(off.vertices) - there.vertices).max() < 0.01 and found.rms < 0.006
    spots = [0, 60, 120, 200]
    pairs = by_pairs(off.vertices[spots], there.vertices[spots])
    assert pairs.rms < 1e-9 and pairs.change.scale == pytest.approx(1.05)
    assert by_pairs(off.vertices[spots], there.vertices[spots], scaled=False).change.scale == 1.0
    for a in (off.vertices[:2], np.arange(9.0).reshape(3, 3)):
        with pytest.raises(WorldError):
            by_pairs(a, a)


def paint(xyz):
    """A pattern of the world that is smooth enough to be looked up between pixels, and sharp enough to follow."""
    x, y, z = xyz.T
    waves = [
        np.sin(5.1 * x + 1.3 * z),
        np.sin(3.7 * z - 2.1 * x),
        np.sin(6.3 * x) * np.sin(5.2 * z),
        np.sin(7.0 * y + 2.0 * x),
    ]
    value = 120.0 + 26.0 * np.sum(waves, axis=0)
    return np.stack([value, 0.8 * value + 20.0, 0.6 * value + 40.0], 1)


@pytest.fixture(scope="module")
def set_of():
    """A floor and a wall that meet, the camera that walks towards them, and its pictures; somebody crosses."""
    path = walking(14)
    stage = [
        solid_of(Proxy(kind="plane", position=(0, 0, -6), size=(14, 1, 12))),
        solid_of(Proxy(kind="wall", position=(0, 0, -8), size=(14, 3, 1))),
    ]
    clean, crossed = [], []
    for row in range(len(path.frames)):
        points, at = points_seen(path, row, stage, surface_seen(path, row, stage))
        picture = np.full((SIZE[1], SIZE[0], 3), 200.0, np.float32)
        picture[at[:, 0], at[:, 1]] = paint(points.xyz)
        clean.append(picture * (1.0 + 0.04 * np.sin(row)))
        crossed.append(clean[-1].copy())
        crossed[-1][40:170, 20 + 20 * row : 50 + 20 * row] = 10.0
    return path, stage, clean, crossed


def test_the_plate_is_projected_and_what_crosses_is_gone(set_of):
    path, stage, clean, crossed = set_of
    rows = np.arange(len(path.frames))
    points, at = points_seen(path, 0, stage, surface_seen(path, 0, stage))
    truth = clean[0][at[:, 0], at[:, 1]]
    found = coloured(path, points, rows, stage, lambda row: crossed[row], MEDIAN, reference=0)
    hidden = (np.abs(crossed[0] - clean[0]).max(2) > 20)[at[:, 0], at[:, 1]]
    apart = np.abs(found - truth).max(1)
    assert hidden.sum() > 1500 and np.isfinite(apart[hidden]).mean() > 0.8
    assert np.nanmedian(apart[hidden]) < 4.0 and (apart[hidden] < 12.0).mean() > 0.7
    one = coloured(path, points, np.array([6]), stage, lambda row: clean[row] / (1 + 0.04 * np.sin(row)), ONE)
    known = np.isfinite(one).all(1)
    assert known.mean() > 0.6 and np.median(np.abs(one[known] - paint(points.xyz[known]))) < 2.0
    blend = coloured(path, points, rows, stage, lambda row: clean[row], BLEND)
    assert np.nanmedian(np.abs(blend - truth)) < 4.0
    with pytest.raises(WorldError, match="nothing to project"):
        coloured(path, points, rows[:0], stage, lambda row: clean[row])


def test_what_stands_before_hides_what_is_behind(set_of):
    path, stage, clean, _ = set_of
    post = solid_of(Proxy(kind="box", position=(0.2, 0, -4.5), size=(0.5, 2.2, 0.3)))
    seen = plate_from(path, 0, clean[0], 13, [*stage, post])
    points, at = points_seen(path, 13, [*stage, post], surface_seen(path, 13, [*stage, post]))
    behind = cast(path.positions[0], points.xyz - path.positions[0], post.triangles).along < 0.99
    on_stage = ~(np.abs(points.xyz[:, 2] + 4.5) < 0.16)
    own = behind & on_stage
    assert own.sum() > 100 and (seen[at[own, 0], at[own, 1], 3] == 0.0).mean() > 0.9


def test_a_texture_goes_out_and_is_seen_again(set_of):
    path, stage, clean, crossed = set_of
    rows = np.arange(len(path.frames))
    side = texture_side(path, rows, stage[1])
    assert 64 <= side <= 2048
    texture = texture_of(path, stage[1], stage, rows, lambda row: crossed[row])
    assert texture.shape == (side, side, 4) and 0.05 < texture[..., 3].mean() <= 1.0
    again = seen_again(path, 3, stage, [None, texture])
    wall = again[..., 3] > 0.99
    own = clean[3] / (1 + 0.04 * np.sin(3)) * (1 + 0.04 * np.sin(0))
    assert wall.sum() > 3000 and np.median(np.abs(again[wall][:, :3] - own[wall]).max(1)) < 6.0
    far = solid_of(Proxy(kind="wall", position=(0, 0, 40), size=(1, 1, 1)))
    with pytest.raises(WorldError, match="No chosen frame sees"):
        texture_of(path, far, [far], rows, lambda row: clean[row], ONE, side=64)


def test_slip_is_measured_on_the_picture_alone(set_of, rng):
    path, stage, clean, _ = set_of
    # Finer texture for patches of a small picture.
    plate = Pictures([np.clip(p + rng.normal(0, 0.7, p.shape), 0, 255).astype(np.uint8) for p in clean])
    here = sight(path, 7, solids=dict(zip("ab", stage)))
    spots = []
    for x in range(40, 300, 28):
        for y in (60, 100, 140):
            on = surface_under(here, np.array([x, y], float))
            spots.append(Spot(on.xyz, on.normal, 7))
    held = measure_slip(plate, path, spots)
    assert len(held.spots) > 12 and np.nanmedian(held.by_spot) < 0.06
    # A camera that errs by a turn a frame: what is pinned slips by as much, and the spot's own frame shows none.
    off = 4e-4 * np.sin(np.arange(14))
    turned = np.array([r @ rotation_exp(np.array([0.0, a, 0.0])) for r, a in zip(path.world_from_camera, off)])
    bent = CameraPath(path.frames, path.positions, turned, path.lens)
    placed = [Spot(s.xyz, s.normal, 7) for s in spots]
    slipped = measure_slip(plate, bent, placed)
    errs = []
    for spot, px in zip(slipped.spots, slipped.px):
        true = np.array([path.project(spot.xyz[None], k)[0] - bent.project(spot.xyz[None], k)[0] for k in range(14)])
        errs.append(px - (true - true[7]))
    assert np.nanmedian(np.abs(errs)) < 0.04 and np.nanmedian(slipped.by_spot) > 0.07
    assert np.allclose(slipped.px[:, 7], 0.0)
    some = held.taken(held.sharp)
    assert 0 < len(some.spots) <= len(held.spots) and len(some.px) == len(some.spots)
    # A place that lies beside its surface slips by that; put where its texture is seen, it does not.
    beside = [Spot(s.xyz + 0.04 * (path.positions[7] - s.xyz), s.normal, 7) for s in held.spots]
    wrong = measure_slip(plate, path, beside)
    right = settled(path, wrong, np.ones(len(wrong.spots), bool))
    assert np.nanmedian(right.by_spot) < 0.5 * np.nanmedian(wrong.by_spot) and np.nanmedian(right.by_spot) < 0.08
    with pytest.raises(WorldError, match="No place could be measured"):
        measure_slip(Pictures([np.full((180, 320, 3), 90, np.uint8)] * 14), path, spots[:4])
    calm = report(held, np.full(len(held.spots), 0.05), np.ones(len(held.spots), bool))
    assert finding(calm, path).kind == HOLDS


def _shaken(path, size):
    turns = size * np.sin(1.7 * np.arange(len(path.frames)))
    return np.array([r @ rotation_exp(np.array([a, a, 0.0])) for r, a in zip(path.world_from_camera, turns)])


def test_slip_beyond_what_is_expected_is_a_finding(set_of):
    path, stage, clean, _ = set_of
    plate = Pictures([np.clip(p, 0, 255).astype(np.uint8) for p in clean])
    grid = np.array([[x, 0.0, z] for x in np.linspace(-3, 3, 16) for z in np.linspace(-7.5, -3, 12)])
    wall = np.array([[x, y, -8.0] for x in np.linspace(-3, 3, 16) for y in np.linspace(0.1, 2.5, 8)])
    xyz = np.concatenate([grid, wall])
    found = places(sight(path, 0, ids=np.arange(len(xyz)), xyz=xyz), None)
    off = [min(abs(s.xyz[1]), abs(s.xyz[2] + 8.0)) for s in found]
    assert len(found) > 40 and np.mean(np.array(off) < 0.02) > 0.95
    shaken = CameraPath(path.frames, path.positions, _shaken(path, 1.5e-3), path.lens)
    measured = measure_slip(plate, shaken, [Spot(s.xyz, s.normal, s.row) for s in found])
    told = report(measured, np.full(len(measured.spots), 0.03), np.ones(len(measured.spots), bool))
    said = finding(told, path)
    assert said.kind == SLIPS and said.confidence > 0.5 and said.figures["slip_px"] > 0.2
    assert len(said.frames) == 6 and json.dumps(said.figures)
