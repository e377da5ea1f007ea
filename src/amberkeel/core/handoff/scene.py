"""The scene that leaves: cameras, points, what stands in it and what moves in it, frozen, in metres (or the solve's
units where nothing gives a scale), Y up, with the plates' own frame numbers. Every format is written from it.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import HandoffError
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.lens.picture import Canvas, canvas_for
from amberkeel.core.tracks import EXCLUDED
from amberkeel.core.world.from_files import solids_in
from amberkeel.core.world.solids import Solid, of_mesh
from amberkeel.core.world.standing import solid_of
from amberkeel.core.world.world_file import World

NAMES_MOST = 120


@dataclass(frozen=True)
class Camera:
    """A shot's camera.

    Attributes
    ----------
    name : of the shot, as a file and a scene node may be called. path : with its lens. sensor_mm : width of the filmed
        part of the sensor. plate : name of its plate. canvas : of the straightened plate that it fits, None for the
        plate as it was filmed.
    """

    name: str
    path: CameraPath
    sensor_mm: float
    plate: str
    canvas: Canvas | None = None

    plate_width: int = 0

    @property
    def mm_per_px(self) -> float:
        """Width of a pixel on the sensor, millimetres; a straightened plate's pixels are as large as the plate's."""
        return self.sensor_mm / (self.plate_width or self.path.lens.width)

    @property
    def wide_mm(self) -> float:
        """Width of the picture on the sensor, millimetres: more than the filmed part's with overscan."""
        return self.path.lens.width * self.mm_per_px

    @property
    def high_mm(self) -> float:
        """Height of the picture on the sensor, millimetres."""
        return self.path.lens.height * self.mm_per_px / self.path.lens.pixel_aspect

    def focal_mm(self, row: int) -> float:
        """Return the focal length on a row of the path, millimetres."""
        return self.path.lens_at(row).focal_px[0] * self.mm_per_px


@dataclass(frozen=True)
class Points:
    """Points of tracks: names and kinds (P,), xyz (P, 3), sigma (P,) one sigma of the position, NaN where not known,
    residual (P,) pixels, groups (P,) that their tracks are in, empty for none; or no groups at all.
    """

    names: tuple[str, ...]
    kinds: tuple[str, ...]
    xyz: np.ndarray
    sigma: np.ndarray
    residual: np.ndarray
    groups: tuple[str, ...] = ()

    @property
    def group_of(self) -> tuple[str, ...]:
        """The group (P,) of each point, empty for none."""
        return self.groups or ("",) * len(self.names)

    def take(self, keep: np.ndarray) -> "Points":
        """Return some of the points, by a mask (P,) bool."""
        own = np.nonzero(keep)[0].tolist()
        return Points(
            tuple(self.names[k] for k in own), tuple(self.kinds[k] for k in own), self.xyz[keep], self.sigma[keep],
            self.residual[keep], tuple(self.groups[k] for k in own) if self.groups else (),
        )  # fmt: skip


@dataclass(frozen=True)
class Thing:
    """What stands in the scene as triangles: a proxy or a probe object; vertices (V, 3), faces (F, 3), uv (V, 2), and
    its picture as PNG, empty where it has none.
    """

    name: str
    kind: str
    vertices: np.ndarray
    faces: np.ndarray
    uv: np.ndarray
    texture: bytes = b""

    @property
    def textured(self) -> bool:
        """Whether it has a picture, and says where each of its corners lies in it."""
        return bool(self.texture) and len(self.uv) == len(self.vertices)


@dataclass(frozen=True)
class Moving:
    """A body: its frames (F,), positions (F, 3), turns (F, 3, 3) world_from_body, points (P, 3) in its frame, and what
    stands for it there.
    """

    name: str
    frames: np.ndarray
    positions: np.ndarray
    turns: np.ndarray
    names: tuple[str, ...]
    points: np.ndarray
    things: tuple[Thing, ...] = ()


@dataclass(frozen=True)
class Scene:
    """All that leaves of a shot, or of the shots of a set. `metric` says whether units are metres; `made_from` what it
    was made from, by name; `locator` how large points are as locators, units, 0 where they are a cloud; `documents`
    the solves, in the world, by camera name.
    """

    name: str
    fps: Fraction
    metric: bool
    cameras: tuple[Camera, ...]
    points: Points
    things: tuple[Thing, ...] = ()
    bodies: tuple[Moving, ...] = ()
    made_from: dict[str, str] = field(default_factory=dict)
    locator: float = 0.0
    documents: dict[str, SolveDocument] = field(default_factory=dict)

    @property
    def frames(self) -> tuple[int, int]:
        """First and last frame of all cameras."""
        return min(int(c.path.frames[0]) for c in self.cameras), max(int(c.path.frames[-1]) for c in self.cameras)


def scene_of(
    document: SolveDocument,
    sensor_mm: float,
    world: World | None = None,
    bodies: Sequence[dict] = (),
    name: str = "",
    textures: Mapping[str, bytes] | None = None,
) -> Scene:
    """Return the scene of one shot.

    Parameters
    ----------
    document : its solve, in the world's coordinates. sensor_mm : width of the filmed part of the sensor. world : what
        stands in it, or None. bodies : documents of what moves in it. name : of the shot; the plate's where empty.
    textures : pictures of the world's proxies by id, PNG.

    Raises
    ------
    HandoffError : the sensor's width is impossible.
    """
    if not sensor_mm > 0.0:
        raise HandoffError("The sensor width must be more than 0 mm.", "Type the camera's sensor width.")
    plate = document.get("plate") or {"name": "", "fps": "24/1"}
    path = read_path(document)
    camera = Camera(safe_name(name or plate["name"] or "shot"), path, sensor_mm, plate["name"], None, path.lens.width)
    return Scene(
        camera.name, Fraction(plate["fps"]), world is not None and world.metric, (camera,), _points(document),
        _things(world, textures or {}) if world is not None else (), tuple(_moving(one) for one in bodies),
        documents={camera.name: document},
    )  # fmt: skip


def together(scenes: Sequence[Scene], name: str) -> Scene:
    """Return shots of one set as one scene; points of one name that several have are taken from the first of them.

    Parameters
    ----------
    scenes : of the shots, in one world. name : of the whole.

    Raises
    ------
    HandoffError : two shots have one name, or their frame rates differ.
    """
    names = [camera.name for one in scenes for camera in one.cameras]
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise HandoffError(f"Two shots would be called {twice[0]}.", "Rename one of them.")
    if len({one.fps for one in scenes}) > 1:
        raise HandoffError("These shots differ in frame rate.", "Hand them over one by one.")
    seen: set[str] = set()
    parts = []
    for one in scenes:
        prefix = "" if len(scenes) == 1 else f"{one.cameras[0].name}:"
        own = [n if kind == "tag" else f"{prefix}{n}" for n, kind in zip(one.points.names, one.points.kinds)]
        keep = np.array([n not in seen for n in own], bool)
        seen.update(own)
        parts.append(replace(one.points, names=tuple(own)).take(keep))
    things = {(t.kind, t.name): t for one in reversed(scenes) for t in one.things}
    return Scene(
        safe_name(name), scenes[0].fps, all(one.metric for one in scenes),
        tuple(c for one in scenes for c in one.cameras),
        Points(
            tuple(n for p in parts for n in p.names), tuple(k for p in parts for k in p.kinds),
            np.concatenate([p.xyz for p in parts]), np.concatenate([p.sigma for p in parts]),
            np.concatenate([p.residual for p in parts]),
            tuple(g for p in parts for g in p.group_of) if any(p.groups for p in parts) else (),
        ), tuple(things.values()), tuple(b for one in scenes for b in one.bodies),
        {k: v for one in scenes for k, v in one.made_from.items()},
        documents={k: v for one in scenes for k, v in one.documents.items()},
    )  # fmt: skip


def straightened(scene: Scene, overscan: str | float = "all", centred: bool = False) -> Scene:
    """Return a scene whose cameras fit straightened plates: without distortion, their pictures as large as the canvas.

    Parameters
    ----------
    scene : as it was filmed. overscan : as for `canvas_for`. centred : whether the canvas is widened until the lens's
        axis is its middle, for formats that know no shifted axis.
    """
    cameras = []
    for one in scene.cameras:
        canvas = canvas_for(one.path.lens, overscan)
        if centred:
            canvas = _centred(canvas, one.path.lens.principal_px)
        lens = canvas.lens(one.path.lens)
        cameras.append(replace(one, path=replace(one.path, lens=lens), canvas=canvas))
    return replace(scene, cameras=tuple(cameras))


def _centred(canvas: Canvas, principal: tuple[float, float]) -> Canvas:
    """Return a canvas widened until a principal point, pixels of the plate, is its middle to half a pixel."""
    x, y = principal[0] + canvas.left, principal[1] + canvas.top
    wide = round(2.0 * x - canvas.width)
    high = round(2.0 * y - canvas.height)
    return Canvas(
        canvas.width + abs(wide), canvas.height + abs(high), canvas.left + max(-wide, 0), canvas.top + max(-high, 0)
    )


def safe_name(text: str) -> str:
    """Return a name as files and scene nodes may have it: letters, digits and _, not beginning with a digit."""
    out = "".join(c if c.isascii() and c.isalnum() else "_" for c in text.strip())[:NAMES_MOST].strip("_")
    while "__" in out:
        out = out.replace("__", "_")
    if not out:
        raise HandoffError(f"“{text[:40]}” leaves no letter for a file's name.", "Give the shot another name.")
    return f"_{out}" if out[0].isdigit() else out


def _points(document: SolveDocument) -> Points:
    used = [p for p in document["points"] if p["state"] != EXCLUDED]
    sigma = [(p.get("sigma_along") or np.nan, p.get("sigma_across") or np.nan) for p in used]
    return Points(
        tuple(p["track"] for p in used), tuple(p["kind"] for p in used),
        np.array([p["xyz"] for p in used], float).reshape(-1, 3),
        np.array([np.hypot(a, np.sqrt(2.0) * b) for a, b in sigma], float),
        np.array([np.nan if p["residual_px"] is None else p["residual_px"] for p in used], float),
    )  # fmt: skip


def _things(world: World, textures: Mapping[str, bytes]) -> tuple[Thing, ...]:
    solids = [("proxy", world.proxies[k].name or k, one, textures.get(k, b"")) for k, one in solids_in(world).items()]
    for key, probe in world.probes.items():
        mesh = world.meshes.get(key)
        own = of_mesh(np.array(mesh.vertices), np.array(mesh.faces)) if mesh else None
        if probe.shown:
            solids.append(("probe", probe.name or key, solid_of(probe, own), b""))
    return things_of(solids)


def things_of(solids: Iterable[tuple[str, str, Solid, bytes]]) -> tuple[Thing, ...]:
    """Return solids in the world as things that leave, each under a name of its own.

    Parameters
    ----------
    solids : of each its kind, its name for people, its triangles, and its picture as PNG, empty where it has none.
    """
    out: list[Thing] = []
    taken: set[str] = set()
    for kind, words, solid, texture in solids:
        out.append(Thing(free_name(words, taken), kind, solid.vertices, solid.faces, solid.uv, texture))
    return tuple(out)


def free_name(words: str, taken: set[str]) -> str:
    """Return a name as `safe_name` makes it, with a number behind it where it is taken, and add it to `taken`."""
    name = base = safe_name(words)
    n = 2
    while name in taken:
        name, n = f"{base}_{n}", n + 1
    taken.add(name)
    return name


def _moving(body: dict) -> Moving:
    frames, name = body["frames"], safe_name(body.get("name") or "body")
    things = tuple(
        Thing(
            f"{name}_{safe_name(one['name'])}", "proxy", np.array(one["vertices"], float), np.array(one["faces"], int),
            np.array(one["uv"], float),
        )
        for one in body.get("proxies", ())
    )  # fmt: skip
    return Moving(
        name, np.array([f["frame"] for f in frames]),
        np.array([f["position"] for f in frames], float), np.array([f["world_from_body"] for f in frames], float),
        tuple(p["track"] for p in body["points"]), np.array([p["xyz"] for p in body["points"]], float).reshape(-1, 3),
        things,
    )  # fmt: skip
